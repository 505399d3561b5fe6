/**
 * A row as bytes: for each column a tag, `n` for null, `u` for *not sent because unchanged*, or `t` followed by the
 * length of its canonical text in bytes (32 bits, big-endian) and the text in UTF-8. It begins with the number of
 * columns (16 bits). This is how PostgreSQL's logical replication sends rows, so that most of a log can be taken
 * over as it comes. https://www.postgresql.org/docs/current/protocol-logicalrep-message-formats.html (TupleData)
 */
import type { Row, Value } from './value.ts'

/** Present wherever JavaScript runs; declared here because core knows no platform. */
declare const TextEncoder: new () => {
  encodeInto(text: string, into: Uint8Array): { written: number }
}
declare const TextDecoder: new (
  label: string,
  options: { fatal: boolean; ignoreBOM: boolean },
) => { decode(bytes: Uint8Array): string }

const encoder = new TextEncoder()
const decoder = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true })

/** Up to this length a text is handled letter by letter. */
const SHORT = 24

export const NULL = 0x6e
export const UNSENT = 0x75
export const TEXT = 0x74

/** Where rows are put together; most fit, and a longer one makes it larger. */
let scratch = new Uint8Array(64 * 1024)

/** The row as bytes of its own. */
export function encodeRow(row: Row): Uint8Array {
  let at = 2
  for (const value of row) {
    // A character takes three bytes at most; one of two units, four.
    const most = typeof value === 'string' ? 5 + value.length * 3 : 1
    if (at + most > scratch.length) grow(at + most)
    if (value === null) scratch[at++] = NULL
    else if (value === undefined) scratch[at++] = UNSENT
    else at = putText(value, at)
  }
  scratch[0] = row.length >>> 8
  scratch[1] = row.length
  return scratch.slice(0, at)
}

function putText(text: string, at: number): number {
  const length = putShort(text, at + 5) ?? encoder.encodeInto(text, scratch.subarray(at + 5)).written
  scratch[at] = TEXT
  scratch[at + 1] = length >>> 24
  scratch[at + 2] = length >>> 16
  scratch[at + 3] = length >>> 8
  scratch[at + 4] = length
  return at + 5 + length
}

/** Short plain texts, which are most of all values, are faster put there letter by letter. */
function putShort(text: string, at: number): number | undefined {
  if (text.length > SHORT) return undefined
  for (let i = 0; i < text.length; i++) {
    const code = text.charCodeAt(i)
    if (code > 0x7f) return undefined
    scratch[at + i] = code
  }
  return text.length
}

function grow(size: number): void {
  const larger = new Uint8Array(size * 2)
  larger.set(scratch)
  scratch = larger
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

/** The same of their way back. */
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
