import { Failure, faultOf } from '@tide/core/failure'
import { networkFailure } from '../network-failure.ts'

const PASSES =
  /^PROTOCOL_|LOCK|DEADLOCK|TOO_MANY|QUERY_INTERRUPTED|SHUTDOWN|KILLED|DISK_FULL|RECORD_CHANGED|CHECKREAD/

interface MysqlError {
  code?: string
  errno?: number
  message: string
}

/** What MariaDB or the network said about `where` (the server, for people), as a Failure with a remedy. */
export function mariadbFailure(thrown: unknown, where: string): Failure {
  if (thrown instanceof Failure) return thrown
  const onTheWay = networkFailure(thrown, where, { name: 'MariaDB', listens: 'bind-address' })
  if (onTheWay) return onTheWay
  const { code = '', message } = thrown as MysqlError
  const fail = (kind: 'transient' | 'structural', text: string, remedy: string) =>
    new Failure(kind, text, remedy, thrown)
  switch (code) {
    case 'ER_ACCESS_DENIED_ERROR':
    case 'ER_HOST_NOT_PRIVILEGED':
      return fail(
        'structural',
        `${where} refuses this user or password: ${message}.`,
        'Correct the user or the password of the connection, or let the user in from this host.',
      )
    case 'ER_BAD_DB_ERROR':
      return fail('structural', `${where}: ${message}.`, 'Correct the database name of the connection.')
    case 'ER_SPECIFIC_ACCESS_DENIED_ERROR':
    case 'ER_TABLEACCESS_DENIED_ERROR':
    case 'ER_DBACCESS_DENIED_ERROR':
    case 'ER_COLUMNACCESS_DENIED_ERROR':
      return fail(
        'structural',
        `${where} denies a right: ${message}.`,
        'Grant the right to the connection’s user, then continue.',
      )
    case 'ER_NO_SUCH_TABLE':
    case 'ER_BAD_FIELD_ERROR':
      return fail(
        'structural',
        `${where}: ${message}.`,
        'Leave the table out, or create it again and recopy.',
      )
    case 'ER_MASTER_FATAL_ERROR_READING_BINLOG':
      return fail(
        'structural',
        `${where}: ${message}.`,
        'What follows is no longer in its log. Start the pipelines on it again: their tables are copied anew.',
      )
  }
  if (/ER_SERVER_SHUTDOWN|ER_CONNECTION_KILLED/.test(`${code} ${message}`)) {
    return fail(
      'transient',
      `The connection to ${where} was cut: ${message}.`,
      'See whether the server is up; it is tried again by itself.',
    )
  }
  // What the server says of itself has a number; what the driver says of the connection is told by its code.
  if (!/^(ER_|PROTOCOL_)|^WARN_/.test(code)) return faultOf(thrown, where)
  return fail(
    PASSES.test(code) ? 'transient' : 'structural',
    `${where}: ${message}.`,
    'Read the message; the server’s own log may say more.',
  )
}
