/** What a store of objects says, as a Failure with a remedy. */
import { Failure, faultOf, messageOf } from '@tide/core/failure'
import { networkFailure } from '../network-failure.ts'

const SERVER = { name: 'the store', listens: 'its listening address' }

interface Said {
  name: string
  message: string
  code?: string
  $metadata?: { httpStatusCode?: number }
}

/** `where`: the bucket, in words. */
export function bucketFailure(thrown: unknown, where: string): Failure {
  if (thrown instanceof Failure) return thrown
  const { name, message, $metadata } = thrown as Said
  const status = $metadata?.httpStatusCode ?? 0
  const structural = (text: string, remedy: string) => new Failure('structural', text, remedy, thrown)
  const transient = (text: string, remedy = 'It is tried again by itself.') =>
    new Failure('transient', text, remedy, thrown)
  switch (name) {
    case 'NoSuchBucket':
      return structural(`There is no bucket ${where}.`, 'Make it at the store, or correct its name.')
    case 'InvalidAccessKeyId':
      return structural(`${where}: the access key is not known there.`, 'Correct it in the connection.')
    case 'SignatureDoesNotMatch':
      return structural(
        `${where}: the secret key is not that of the access key.`,
        'Type it again in the connection.',
      )
    case 'RequestTimeTooSkewed':
      return structural(
        `${where}: our clock and that of the store are too far apart.`,
        'Set this machine’s clock, or have its clock kept by a time service.',
      )
    case 'AccessDenied':
      return structural(
        `${where}: this key may not do that: ${message}`,
        'Give it the rights that the test of the connection shows.',
      )
    case 'PermanentRedirect':
    case 'AuthorizationHeaderMalformed':
      return structural(`${where} is in another region: ${message}`, 'Correct the region.')
    case 'NoSuchKey':
    case 'NotFound':
      return transient(`${where}: a file is not there: ${message}`)
    case 'QuotaExceeded':
    case 'InsufficientStorage':
      return transient(`There is no room left in ${where}.`, 'Make room there; it is tried again by itself.')
  }
  const network = networkFailure(causeOf(thrown), where, SERVER)
  if (network) return network
  if (status >= 500 || status === 429 || name === 'TimeoutError' || name === 'RequestTimeout')
    return transient(`${where} cannot answer just now: ${messageOf(thrown)}`)
  if (status === 401 || status === 403)
    return structural(`${where}: ${message}`, 'Correct the keys, or what they may do.')
  if (status >= 400)
    return structural(`${where}: ${name}: ${message}`, 'Read the message, mend what it names, then continue.')
  return faultOf(thrown, where)
}

/** What several tries have come to says why the last one failed. */
function causeOf(thrown: unknown): unknown {
  const { errors, cause } = thrown as { errors?: unknown[]; cause?: unknown }
  return errors?.at(-1) ?? (cause && (thrown as Said).code === undefined ? cause : thrown)
}
