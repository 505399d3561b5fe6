import { hash } from 'node:crypto'

const BLOCK_BYTES = 64
const DIGEST_BYTES = 32

/**
 * HMAC-SHA-256 in hexadecimal digits (RFC 2104), as two hashes of one call each, which is twice as fast as node's own for
 * values as short as those of columns. The key is no longer than a block.
 */
export function keyedHash(key: Uint8Array): (text: string) => string {
  if (key.length > BLOCK_BYTES) throw new Error('a key that is longer than a block')
  const inner = Buffer.alloc(BLOCK_BYTES + 4096, 0x36)
  const outer = Buffer.alloc(BLOCK_BYTES + DIGEST_BYTES, 0x5c)
  key.forEach((byte, i) => {
    inner[i]! ^= byte
    outer[i]! ^= byte
  })
  let within = inner
  return text => {
    const most = BLOCK_BYTES + text.length * 3
    if (most > within.length) within = Buffer.concat([within.subarray(0, BLOCK_BYTES)], most)
    const length = BLOCK_BYTES + within.write(text, BLOCK_BYTES)
    hash('sha256', within.subarray(0, length), 'buffer').copy(outer, BLOCK_BYTES)
    return hash('sha256', outer, 'hex')
  }
}
