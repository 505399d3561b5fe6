import { Failure } from '@tide/core/failure'

/** What people call such a server, and the setting by which it listens. */
export interface ServerKind {
  name: string
  listens: string
}

const NOT_SIGNED = new Set([
  'DEPTH_ZERO_SELF_SIGNED_CERT',
  'SELF_SIGNED_CERT_IN_CHAIN',
  'UNABLE_TO_VERIFY_LEAF_SIGNATURE',
  'UNABLE_TO_GET_ISSUER_CERT',
  'UNABLE_TO_GET_ISSUER_CERT_LOCALLY',
])

const CUT =
  /timeout expired|timeout exceeded|not queryable|Client was closed|Query was cancelled|Connection terminated|ECONNRESET|EPIPE|PROTOCOL_CONNECTION_LOST|closed state/i
const NOT_ENCRYPTING = /does not support SSL|HANDSHAKE_NO_SSL_SUPPORT/

interface TlsError {
  code?: string
  message: string
  cert?: { subjectaltname?: string }
}

/** What was said on the way to `where`, by the network or about who answers there; `undefined`: neither. */
export function networkFailure(thrown: unknown, where: string, server: ServerKind): Failure | undefined {
  const { code = '', message, cert } = thrown as TlsError
  const transient = (text: string, remedy: string) => new Failure('transient', text, remedy, thrown)
  const structural = (text: string, remedy: string) => new Failure('structural', text, remedy, thrown)
  switch (code) {
    case 'ENOTFOUND':
    case 'EAI_AGAIN':
      return transient(
        `The host of ${where} is not known by that name.`,
        'Correct the host name, or the name service.',
      )
    case 'ECONNREFUSED':
      return transient(
        `Nothing answers at ${where}.`,
        `Check host and port; see that ${server.name} runs and that ${server.listens} takes in this address.`,
      )
    case 'ETIMEDOUT':
    case 'EHOSTUNREACH':
      return transient(`${where} cannot be reached.`, 'Check the address, the route and the firewall.')
    case 'ERR_TLS_CERT_ALTNAME_INVALID':
      return structural(
        `${where} answers with a certificate for ${cert?.subjectaltname ?? 'no host at all'}, not for this host.`,
        'Set Host to a name that it is for, or give the server a certificate for this one.',
      )
    case 'CERT_HAS_EXPIRED':
    case 'CERT_NOT_YET_VALID':
      return structural(
        `The certificate of ${where} is not valid today: ${message}.`,
        'Give the server a new certificate; it is tried again when you continue.',
      )
  }
  if (NOT_SIGNED.has(code)) {
    return structural(
      `The certificate of ${where} is not signed by an authority that is known here: ${message}.`,
      'Put the PEM text of the authority that signed it into Certificate authority of the connection.',
    )
  }
  // What else the system says of the way there, such as EPIPE or ENETUNREACH.
  if (/^E[A-Z]+$/.test(code))
    return transient(`${where} cannot be reached: ${message}.`, 'It is tried again by itself.')
  const text = `${code} ${message}`
  if (NOT_ENCRYPTING.test(text)) {
    return structural(
      `${where} does not speak TLS.`,
      'Turn TLS on at the server, or set Encryption of the connection to none.',
    )
  }
  if (!CUT.test(text)) return undefined
  return transient(
    `The connection to ${where} was cut: ${message}.`,
    'See whether the server is up; it is tried again by itself.',
  )
}
