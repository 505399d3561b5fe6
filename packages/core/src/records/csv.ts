import { TEXT, textLength, type PackedRow } from './tuple.ts'
import type { LogicalType } from './types.ts'
import type { Value } from './value.ts'

/** A field that is just `\.` is quoted, too: alone on a line, PostgreSQL takes it for the end of the data. */
const SPECIAL = /[",\r\n]|^\\\.$/

/** Types whose canonical text holds nothing that would have to be quoted. */
export const NEVER_QUOTED: ReadonlySet<string> = new Set<LogicalType['kind']>([
  'int',
  'decimal',
  'float',
  'bool',
  'date',
  'timestamp',
  'binary',
  'uuid',
])

const [QUOTE, COMMA, RETURN, NEWLINE, BACKSLASH, POINT] = [0x22, 0x2c, 0x0d, 0x0a, 0x5c, 0x2e]

declare const TextEncoder: new () => {
  encode(text: string): Uint8Array
}
const encoder = new TextEncoder()

/**
 * One line of CSV (RFC 4180) as PostgreSQL's `COPY … (FORMAT csv)` writes it: a null is nothing at all, an empty
 * string is `""`. Bulk data travels in this form because every database reads it natively at its best speed.
 */
export function csvLine(values: readonly Value[]): string {
  let line = ''
  for (let i = 0; i < values.length; i++) {
    if (i > 0) line += ','
    const value = values[i]
    if (value === null || value === undefined) continue
    line += csvField(value)
  }
  return `${line}\n`
}

/** One field of such a line, of a value that is not null. */
export function csvField(value: string): string {
  return value === '' || SPECIAL.test(value) ? `"${value.replaceAll('"', '""')}"` : value
}

/** Writes such lines of packed rows, byte by byte; what was not sent is written like null. */
export class CsvWriter {
  private bytes: Uint8Array
  length = 0

  constructor(size: number) {
    this.bytes = new Uint8Array(size)
  }

  /** A row's fields, without the end of its line. */
  row({ bytes, at: start }: PackedRow): void {
    const columns = (bytes[start]! << 8) | bytes[start + 1]!
    let at = start + 2
    for (let i = 0; i < columns; i++) {
      if (bytes[at] !== TEXT) {
        this.room(1)
        if (i > 0) this.bytes[this.length++] = COMMA
        at++
        continue
      }
      const length = textLength(bytes, at)
      at += 5
      // Every byte might be a quote.
      this.room(3 + 2 * length)
      if (i > 0) this.bytes[this.length++] = COMMA
      this.field(bytes, at, length)
      at += length
    }
  }

  /** What follows the row's fields on the same line, as text: nothing, or a comma and more fields. */
  endLine(more: string): void {
    if (more !== '') {
      const bytes = encoder.encode(more)
      this.room(bytes.length)
      this.bytes.set(bytes, this.length)
      this.length += bytes.length
    }
    this.room(1)
    this.bytes[this.length++] = NEWLINE
  }

  /** What has been written so far, as bytes of its own. */
  take(): Uint8Array {
    const taken = this.bytes.slice(0, this.length)
    this.length = 0
    return taken
  }

  private field(from: Uint8Array, start: number, length: number): void {
    const to = this.bytes
    let at = this.length
    const end = start + length
    for (let i = start; i < end; i++) {
      const byte = from[i]!
      if (byte === QUOTE || byte === COMMA || byte === NEWLINE || byte === RETURN) {
        return this.quoted(from, start, end)
      }
      to[at++] = byte
    }
    const alone = length === 2 && from[start] === BACKSLASH && from[start + 1] === POINT
    if (length === 0 || alone) this.quoted(from, start, end)
    else this.length = at
  }

  /** From where the field began: what was written of it plainly is written over. */
  private quoted(from: Uint8Array, start: number, end: number): void {
    const to = this.bytes
    let at = this.length
    to[at++] = QUOTE
    for (let i = start; i < end; i++) {
      const byte = from[i]!
      if (byte === QUOTE) to[at++] = QUOTE
      to[at++] = byte
    }
    to[at++] = QUOTE
    this.length = at
  }

  private room(size: number): void {
    if (this.length + size <= this.bytes.length) return
    const larger = new Uint8Array((this.length + size) * 2)
    larger.set(this.bytes.subarray(0, this.length))
    this.bytes = larger
  }
}
