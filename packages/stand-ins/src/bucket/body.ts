/** The bodies of requests: plain, or in chunks with a checksum behind them. */
import { createHash } from 'node:crypto'
import type { IncomingMessage } from 'node:http'
import { crc32 } from 'node:zlib'
import { Refused } from './signature.ts'

/** What one request may bring. */
const MOST_BYTES = 64 * 2 ** 20

/** The body, checked by whatever the request says of it. Throws Refused. */
export async function bodyOf(request: IncomingMessage): Promise<Buffer> {
  const raw = await whole(request)
  const { headers } = request
  const said = String(headers['x-amz-content-sha256'] ?? '')
  const { body, trailers } = said.startsWith('STREAMING-')
    ? unchunked(raw)
    : { body: raw, trailers: new Map<string, string>() }
  if (/^[0-9a-f]{64}$/.test(said) && createHash('sha256').update(body).digest('hex') !== said)
    throw new Refused(400, 'XAmzContentSHA256Mismatch', 'The body is not what was signed.')
  const checksum = headers['x-amz-checksum-crc32'] ?? trailers.get('x-amz-checksum-crc32')
  if (checksum !== undefined && checksum !== checksumOf(body))
    throw new Refused(400, 'BadDigest', 'The checksum of the body is another.')
  return body
}

export function checksumOf(body: Uint8Array): string {
  const bytes = Buffer.alloc(4)
  bytes.writeUInt32BE(crc32(body))
  return bytes.toString('base64')
}

async function whole(request: IncomingMessage): Promise<Buffer> {
  const parts: Buffer[] = []
  let bytes = 0
  for await (const part of request as AsyncIterable<Buffer>) {
    bytes += part.length
    if (bytes > MOST_BYTES) throw new Refused(400, 'EntityTooLarge', 'The body is too large for one request.')
    parts.push(part)
  }
  return Buffer.concat(parts)
}

function unchunked(raw: Buffer): { body: Buffer; trailers: Map<string, string> } {
  const chunks: Buffer[] = []
  let at = 0
  for (;;) {
    const end = raw.indexOf('\r\n', at)
    const length = Number.parseInt(raw.toString('latin1', at, end), 16)
    if (end < 0 || Number.isNaN(length)) throw new Refused(400, 'IncompleteBody', 'A chunk has no end.')
    const chunk = raw.subarray(end + 2, end + 2 + length)
    at = end + 2 + length
    if (length === 0) break
    chunks.push(chunk)
    at += 2
  }
  const trailers = new Map(
    raw
      .toString('latin1', at)
      .split('\r\n')
      .flatMap((line): [string, string][] => {
        const [, name, value] = /^([\w-]+):\s*(.*)$/.exec(line) ?? []
        return name === undefined ? [] : [[name.toLowerCase(), value!]]
      }),
  )
  return { body: Buffer.concat(chunks), trailers }
}
