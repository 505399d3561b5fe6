import { Failure, faultOf } from '@tide/core/failure'
import { networkFailure } from '../network-failure.ts'

interface PgError {
  code?: string
  message: string
}

const SQLSTATE = /^[0-9A-Z]{5}$/
const RETRY_CLASSES = new Set(['08', '40', '53', '55', '57'])

/** What PostgreSQL or the network said about `where` (the server, for people), as a Failure with a remedy. */
export function postgresFailure(thrown: unknown, where: string): Failure {
  if (thrown instanceof Failure) return thrown
  const onTheWay = networkFailure(thrown, where, { name: 'PostgreSQL', listens: 'listen_addresses' })
  if (onTheWay) return onTheWay
  const { code = '', message } = thrown as PgError
  const fail = (kind: 'transient' | 'structural', text: string, remedy: string) =>
    new Failure(kind, text, remedy, thrown)
  switch (code) {
    case '28P01':
      return fail(
        'structural',
        `${where} refuses the password: ${message}.`,
        'Correct the user or the password of the connection.',
      )
    case '28000':
      return fail(
        'structural',
        `${where} does not let this user in: ${message}.`,
        'Add a line for this user and address to pg_hba.conf.',
      )
    case '3D000':
      return fail('structural', `${where}: ${message}.`, 'Correct the database name of the connection.')
    case '42501':
      return fail(
        'structural',
        `${where} denies a right: ${message}.`,
        'Grant the right to the connection’s user, then continue.',
      )
    case '55000':
      return fail(
        'structural',
        `${where}: ${message}.`,
        'Test the connection: the check says what the server’s settings must be, and what to type.',
      )
    case '53400':
      return fail(
        'structural',
        `${where}: ${message}.`,
        'Raise max_replication_slots and max_wal_senders, or drop slots that nobody reads; then continue.',
      )
    case '42P01':
    case '3F000':
      return fail(
        'structural',
        `${where}: ${message}.`,
        'Leave the table out, or create it again and recopy.',
      )
  }
  if (!SQLSTATE.test(code)) return faultOf(thrown, where)
  const kind = RETRY_CLASSES.has(code.slice(0, 2)) ? 'transient' : 'structural'
  return fail(kind, `${where}: ${message}.`, 'Read the message; the server’s own log may say more.')
}
