/**
 * A row as bytes: for each column a tag, `n` for null, `u` for *not sent because unchanged*, or `t` followed by the
 * length of its canonical text in bytes (32 bits, big-endian) and the text in UTF-8. It begins with the number of
 * columns (16 bits). This is how PostgreSQL's logical replication sends rows, so that most of a log can be taken
 * over as it comes. https://www.postgresql.org/docs/current/protocol-logicalrep-message-formats.html (TupleData)
 */
import type { Row, Value } from './value.ts'

/** Present wherever JavaScript runs; declared here because core knows no platform. */
declare const TextEncoder: new () => { encode(text: string): Uint8Array }
declare const TextDecoder: new (
  label: string,
  options: { fatal: boolean; ignoreBOM: boolean },
) => { decode(bytes: Uint8Array): string }

const encoder = new TextEncoder()
const decoder = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true })

export const NULL = 0x6e
export const UNSENT = 0x75
export const TEXT = 0x74

/** The row as bytes of its own. */
export function encodeRow(row: Row): Uint8Array {
  const texts = row.map(value => (typeof value === 'string' ? encoder.encode(value) : value))
  let size = 2
  for (const text of texts) size += text instanceof Uint8Array ? 5 + text.length : 1
  const bytes = new Uint8Array(size)
  bytes[0] = row.length >>> 8
  bytes[1] = row.length
  let at = 2
  for (const text of texts) {
    if (text === null) bytes[at++] = NULL
    else if (text === undefined) bytes[at++] = UNSENT
    else {
      bytes[at] = TEXT
      bytes[at + 1] = text.length >>> 24
      bytes[at + 2] = text.length >>> 16
      bytes[at + 3] = text.length >>> 8
      bytes[at + 4] = text.length
      bytes.set(text, at + 5)
      at += 5 + text.length
    }
  }
  return bytes
}

/** Where the row that begins at `start` ends. */
export function rowEnd(bytes: Uint8Array, start: number): number {
  const columns = (bytes[start]! << 8) | bytes[start + 1]!
  let at = start + 2
  for (let i = 0; i < columns; i++) at += bytes[at] === TEXT ? 5 + textLength(bytes, at) : 1
  return at
}

/** The row that begins at `start`. Throws on text that is no UTF-8. */
export function decodeRow(bytes: Uint8Array, start = 0): Value[] {
  const columns = (bytes[start]! << 8) | bytes[start + 1]!
  const row = new Array<Value>(columns)
  let at = start + 2
  for (let i = 0; i < columns; i++) {
    const tag = bytes[at]
    if (tag === TEXT) {
      const length = textLength(bytes, at)
      row[i] = decodeText(bytes, at + 5, at + 5 + length)
      at += 5 + length
    } else {
      row[i] = tag === NULL ? null : undefined
      at++
    }
  }
  return row
}

function textLength(bytes: Uint8Array, at: number): number {
  return ((bytes[at + 1]! << 24) | (bytes[at + 2]! << 16) | (bytes[at + 3]! << 8) | bytes[at + 4]!) >>> 0
}

/** Short plain texts, which are most of all values, are faster put together here than by the platform's decoder. */
const SHORT = 24

function decodeText(bytes: Uint8Array, start: number, end: number): string {
  if (end - start > SHORT) return decoder.decode(bytes.subarray(start, end))
  let text = ''
  for (let i = start; i < end; i++) {
    const byte = bytes[i]!
    if (byte > 0x7f) return decoder.decode(bytes.subarray(start, end))
    text += String.fromCharCode(byte)
  }
  return text
}
