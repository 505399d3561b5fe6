/** Signatures of requests: AWS Signature Version 4, https://docs.aws.amazon.com/AmazonS3/latest/API/sig-v4-authenticating-requests.html */
import { createHash, createHmac, timingSafeEqual } from 'node:crypto'
import type { IncomingHttpHeaders } from 'node:http'

export interface Keys {
  accessKeyId: string
  secretAccessKey: string
}

export interface Signed {
  method: string
  /** As it came, with what is asked behind a question mark. */
  url: string
  headers: IncomingHttpHeaders
}

/** Who refused it, in the names that stores use. */
export class Refused extends Error {
  readonly code: string
  readonly status: number

  constructor(status: number, code: string, message: string) {
    super(message)
    this.status = status
    this.code = code
  }
}

const MOST_SKEW_MS = 15 * 60_000

const sha256 = (text: string) => createHash('sha256').update(text).digest('hex')
const hmac = (key: string | Buffer, text: string) => createHmac('sha256', key).update(text).digest()

/** Throws Refused. */
export function checkSignature({ method, url, headers }: Signed, keys: Keys, now: number): void {
  const said =
    /^AWS4-HMAC-SHA256 Credential=(\S+?),\s*SignedHeaders=(\S+?),\s*Signature=([0-9a-f]{64})$/.exec(
      headers.authorization ?? '',
    )
  if (!said) throw new Refused(403, 'AccessDenied', 'The request is not signed.')
  const [, credential, signed, signature] = said as unknown as [string, string, string, string]
  const [id, day, region, service] = credential.split('/') as [string, string, string, string]
  if (id !== keys.accessKeyId) throw new Refused(403, 'InvalidAccessKeyId', 'The access key is not known.')
  const stamp = String(headers['x-amz-date'])
  const at = Date.parse(stamp.replace(/^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)Z$/, '$1-$2-$3T$4:$5:$6Z'))
  if (!(Math.abs(now - at) <= MOST_SKEW_MS))
    throw new Refused(403, 'RequestTimeTooSkewed', 'The clocks differ too much.')
  const { pathname, searchParams } = new URL(url, 'http://store')
  const names = signed.split(';')
  const canonical = [
    method,
    encodedPath(pathname),
    [...searchParams]
      .map(([name, value]) => `${encoded(name)}=${encoded(value)}`)
      .sort()
      .join('&'),
    ...names.map(
      name =>
        `${name}:${String(headers[name] ?? '')
          .trim()
          .replace(/ +/g, ' ')}`,
    ),
    '',
    signed,
    String(headers['x-amz-content-sha256']),
  ].join('\n')
  const scope = `${day}/${region}/${service}/aws4_request`
  const key = [day, region, service, 'aws4_request'].reduce<string | Buffer>(
    hmac,
    `AWS4${keys.secretAccessKey}`,
  )
  const expected = hmac(key, `AWS4-HMAC-SHA256\n${stamp}\n${scope}\n${sha256(canonical)}`).toString('hex')
  if (!equal(expected, signature))
    throw new Refused(403, 'SignatureDoesNotMatch', 'The signature is not what it should be.')
}

const encoded = (text: string) =>
  encodeURIComponent(text).replace(/[!'()*]/g, sign => `%${sign.charCodeAt(0).toString(16).toUpperCase()}`)

/** Each part once, as it is signed. */
const encodedPath = (path: string) =>
  path
    .split('/')
    .map(part => encoded(decodeURIComponent(part)))
    .join('/')

function equal(a: string, b: string): boolean {
  return a.length === b.length && timingSafeEqual(Buffer.from(a), Buffer.from(b))
}
