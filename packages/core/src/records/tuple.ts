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

/** Puts rows together, value by value, in one memory that grows with the longest. */
export class RowWriter {
  bytes: Uint8Array
  /** Where the next byte goes. Whoever writes a text byte by byte moves it. */
  at = 0
  private opened = 0

  constructor(size = 64 * 1024) {
    this.bytes = new Uint8Array(size)
  }

  /** Begins a row behind what is there. */
  begin(columns: number): void {
    this.room(2)
    this.bytes[this.at++] = columns >>> 8
    this.bytes[this.at++] = columns
  }

  null(): void {
    this.room(1)
    this.bytes[this.at++] = NULL
  }

  unsent(): void {
    this.room(1)
    this.bytes[this.at++] = UNSENT
  }

  text(text: string): void {
    // A character takes three bytes at most; one of two units, four.
    this.open(text.length * 3)
    if (!this.putShort(text)) this.at += encoder.encodeInto(text, this.bytes.subarray(this.at)).written
    this.close()
  }

  /** Begins a text of at most so many bytes, which are then put at `at`. */
  open(most: number): void {
    this.room(5 + most)
    this.opened = this.at
    this.at += 5
  }

  /** The text ends here. */
  close(): void {
    const { bytes, opened: at } = this
    const length = this.at - at - 5
    bytes[at] = TEXT
    bytes[at + 1] = length >>> 24
    bytes[at + 2] = length >>> 16
    bytes[at + 3] = length >>> 8
    bytes[at + 4] = length
  }

  /** Short plain texts, which are most of all values, are faster put there letter by letter. */
  private putShort(text: string): boolean {
    if (text.length > SHORT) return false
    const { bytes, at } = this
    for (let i = 0; i < text.length; i++) {
      const code = text.charCodeAt(i)
      if (code > 0x7f) return false
      bytes[at + i] = code
    }
    this.at += text.length
    return true
  }

  private room(size: number): void {
    if (this.at + size <= this.bytes.length) return
    const larger = new Uint8Array((this.at + size) * 2)
    larger.set(this.bytes)
    this.bytes = larger
  }
}

const writer = new RowWriter()

/** The row as bytes of its own. */
export function encodeRow(row: Row): Uint8Array {
  writer.at = 0
  writer.begin(row.length)
  for (const value of row) {
    if (value === null) writer.null()
    else if (value === undefined) writer.unsent()
    else writer.text(value)
  }
  return writer.bytes.slice(0, writer.at)
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
