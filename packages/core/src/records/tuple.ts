/**
 * A row as bytes: for each column a tag, `n` for null, `u` for *not sent because unchanged*, or `t` followed by the
 * length of its canonical text in bytes (32 bits, big-endian) and the text in UTF-8. It begins with the number of
 * columns (16 bits). This is how PostgreSQL's logical replication sends rows, so that most of a log can be taken
 * over as it comes. https://www.postgresql.org/docs/current/protocol-logicalrep-message-formats.html (TupleData)
 */
import { keyMissing, type Key, type Row, type Value } from './value.ts'

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

const PIECE_BYTES = 512 * 1024

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

  /** A value as it stands in another row, tag and all. */
  copy(bytes: Uint8Array, start: number, end: number): void {
    this.room(end - start)
    if (end - start > SHORT) {
      this.bytes.set(bytes.subarray(start, end), this.at)
      this.at += end - start
      return
    }
    for (let i = start; i < end; i++) this.bytes[this.at++] = bytes[i]!
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

/** Rows put together one behind another, in memory that is taken in large pieces. */
export class RowPack {
  private writer = new RowWriter(2 * PIECE_BYTES)

  row(write: (writer: RowWriter) => void): PackedRow {
    if (this.writer.at > PIECE_BYTES) this.writer = new RowWriter(2 * PIECE_BYTES)
    const { at } = this.writer
    write(this.writer)
    // Where the memory had to grow, earlier rows stay where they are.
    return { bytes: this.writer.bytes, at }
  }
}

/** A row as bytes, where it stands among others. */
export interface PackedRow {
  bytes: Uint8Array
  at: number
}

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

export function packRow(row: Row): PackedRow {
  return { bytes: encodeRow(row), at: 0 }
}

/** Where the row that begins at `start` ends. */
export function rowEnd(bytes: Uint8Array, start: number): number {
  const columns = (bytes[start]! << 8) | bytes[start + 1]!
  let at = start + 2
  for (let i = 0; i < columns; i++) at = valueEnd(bytes, at)
  return at
}

/** Where the value that begins at `at` ends. */
export function valueEnd(bytes: Uint8Array, at: number): number {
  return bytes[at] === TEXT ? at + 5 + textLength(bytes, at) : at + 1
}

/** The row that begins at `start`. Throws on text that is no UTF-8. */
export function decodeRow(bytes: Uint8Array, start = 0): Value[] {
  const columns = (bytes[start]! << 8) | bytes[start + 1]!
  const row = new Array<Value>(columns)
  let at = start + 2
  for (let i = 0; i < columns; i++) {
    row[i] = valueAt(bytes, at)
    at = valueEnd(bytes, at)
  }
  return row
}

export function unpackRow({ bytes, at }: PackedRow): Value[] {
  return decodeRow(bytes, at)
}

/** Whether some of its values were not sent. */
export function isPartial({ bytes, at: start }: PackedRow): boolean {
  const columns = (bytes[start]! << 8) | bytes[start + 1]!
  let at = start + 2
  for (let i = 0; i < columns; i++) {
    if (bytes[at] === UNSENT) return true
    at = valueEnd(bytes, at)
  }
  return false
}

/** The places of values that were not sent. */
export function unsentIn({ bytes, at: start }: PackedRow): number[] {
  const columns = (bytes[start]! << 8) | bytes[start + 1]!
  const unsent: number[] = []
  let at = start + 2
  for (let i = 0; i < columns; i++) {
    if (bytes[at] === UNSENT) unsent.push(i)
    at = valueEnd(bytes, at)
  }
  return unsent
}

/**
 * The key's values. What was not sent stands in `earlier`, where that is given. Throws a Failure when one is null or was
 * not sent at all.
 */
export function packedKey(row: PackedRow, keyIndexes: readonly number[], earlier?: PackedRow): Key {
  const key = new Array<string>(keyIndexes.length)
  for (let k = 0; k < keyIndexes.length; k++) {
    const index = keyIndexes[k]!
    let value = packedValue(row, index)
    if (value === undefined && earlier) value = packedValue(earlier, index)
    if (value === null || value === undefined) throw keyMissing(index, value)
    key[k] = value
  }
  return key
}

/** One value of a row. */
export function packedValue({ bytes, at }: PackedRow, index: number): Value {
  return valueAt(bytes, packedPlace(bytes, at, index))
}

/** Where the value of a row that begins at `start` stands. */
function packedPlace(bytes: Uint8Array, start: number, index: number): number {
  let at = start + 2
  for (let i = 0; i < index; i++) at = valueEnd(bytes, at)
  return at
}

/** `row` with what was not sent taken from `earlier`, where that has it. */
export function filledRow(row: PackedRow, earlier: PackedRow): PackedRow {
  const { bytes, at: start } = row
  const columns = (bytes[start]! << 8) | bytes[start + 1]!
  writer.at = 0
  writer.begin(columns)
  let [at, other] = [start + 2, earlier.at + 2]
  for (let i = 0; i < columns; i++) {
    const [end, otherEnd] = [valueEnd(bytes, at), valueEnd(earlier.bytes, other)]
    if (bytes[at] === UNSENT) writer.copy(earlier.bytes, other, otherEnd)
    else writer.copy(bytes, at, end)
    ;[at, other] = [end, otherEnd]
  }
  return { bytes: writer.bytes.slice(0, writer.at), at: 0 }
}

const ends = new Int32Array(65_537)

/** Writes just these values of a row, in this order. */
export function writePicked(
  to: RowWriter,
  { bytes, at: start }: PackedRow,
  columns: readonly number[],
): void {
  const count = (bytes[start]! << 8) | bytes[start + 1]!
  ends[0] = start + 2
  for (let i = 0; i < count; i++) ends[i + 1] = valueEnd(bytes, ends[i]!)
  for (const column of columns) to.copy(bytes, ends[column]!, ends[column + 1]!)
}

/** A row of just these values, in this order. */
export function pickedRow({ bytes, at: start }: PackedRow, columns: readonly number[]): PackedRow {
  const count = (bytes[start]! << 8) | bytes[start + 1]!
  const places = new Array<number>(count + 1)
  places[0] = start + 2
  for (let i = 0; i < count; i++) places[i + 1] = valueEnd(bytes, places[i]!)
  writer.at = 0
  writer.begin(columns.length)
  for (const column of columns) writer.copy(bytes, places[column]!, places[column + 1]!)
  return { bytes: writer.bytes.slice(0, writer.at), at: 0 }
}

/**
 * Part of a row that is made of another: its values from one place to another as they are, or one that is made of those
 * at some places.
 */
export type RowPart =
  { from: number; to: number } | { places: readonly number[]; make(row: readonly Value[]): Value }

/** A row of values that are taken from another, or made of it. */
export function madeRow(
  { bytes, at: start }: PackedRow,
  parts: readonly RowPart[],
  columns: number,
): PackedRow {
  const values: Value[] = []
  const count = (bytes[start]! << 8) | bytes[start + 1]!
  const places = new Array<number>(count + 1)
  places[0] = start + 2
  for (let i = 0; i < count; i++) places[i + 1] = valueEnd(bytes, places[i]!)
  writer.at = 0
  writer.begin(columns)
  for (const part of parts) {
    if ('to' in part) {
      writer.copy(bytes, places[part.from]!, places[part.to + 1]!)
      continue
    }
    for (const place of part.places) values[place] = valueAt(bytes, places[place]!)
    const value = part.make(values)
    if (value === null) writer.null()
    else if (value === undefined) writer.unsent()
    else writer.text(value)
  }
  return { bytes: writer.bytes.slice(0, writer.at), at: 0 }
}

function valueAt(bytes: Uint8Array, at: number): Value {
  const tag = bytes[at]
  if (tag === TEXT) return decodeText(bytes, at + 5, at + 5 + textLength(bytes, at))
  return tag === NULL ? null : undefined
}

/** Of a value that is a text: its length in bytes. */
export function textLength(bytes: Uint8Array, at: number): number {
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
