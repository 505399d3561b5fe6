/**
 * Rows as JSON Lines (https://jsonlines.org): one object a line, in UTF-8. Booleans, whole numbers and finite floats are written as
 * JSON has them, digit for digit; json as it is; lists as arrays; all else, decimals and 64-bit whole numbers beyond what a
 * double holds among them, as the canonical text in quotes, so that no reader rounds it.
 */
import { parseList, type Nested } from './list.ts'
import { TEXT, textLength, type PackedRow } from './tuple.ts'
import type { LogicalType } from './types.ts'

declare const TextEncoder: new () => { encode(text: string): Uint8Array }
declare const TextDecoder: new (
  label: string,
  options: { fatal: boolean; ignoreBOM: boolean },
) => { decode(bytes: Uint8Array): string }
const encoder = new TextEncoder()
const decoder = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true })

const [QUOTE, BACKSLASH, OPEN, CLOSE, NEWLINE, SPACE] = [0x22, 0x5c, 0x7b, 0x7d, 0x0a, 0x20]
const HEX = encoder.encode('0123456789abcdef')
/** Letters of the short escapes. */
const SHORT_ESCAPES = new Map([
  [0x08, 0x62],
  [0x09, 0x74],
  [0x0a, 0x6e],
  [0x0c, 0x66],
  [0x0d, 0x72],
])
const NULL_WORD = encoder.encode('null')
/** Whole numbers of fewer digits are the same as doubles. */
const SAFE_DIGITS = 15

/** How a value of a type is written. */
type Form = 'quoted' | 'int' | 'float' | 'bool' | 'json' | 'list'

function formOf(type: LogicalType): Form {
  switch (type.kind) {
    case 'int':
    case 'float':
    case 'bool':
    case 'json':
    case 'list':
      return type.kind
    default:
      return 'quoted'
  }
}

export class JsonLinesWriter {
  private bytes: Uint8Array
  length = 0
  private readonly names: readonly Uint8Array[]
  private readonly forms: readonly Form[]
  private readonly types: readonly LogicalType[]

  constructor(columns: readonly { name: string; type: LogicalType }[], size: number) {
    this.bytes = new Uint8Array(size)
    this.names = columns.map(({ name }, i) => encoder.encode(`${i > 0 ? ',' : ''}${JSON.stringify(name)}:`))
    this.forms = columns.map(({ type }) => formOf(type))
    this.types = columns.map(({ type }) => type)
  }

  row({ bytes, at: start }: PackedRow): void {
    this.room(2)
    this.bytes[this.length++] = OPEN
    let at = start + 2
    for (let i = 0; i < this.names.length; i++) {
      this.put(this.names[i]!)
      if (bytes[at] !== TEXT) {
        this.put(NULL_WORD)
        at++
        continue
      }
      const length = textLength(bytes, at)
      at += 5
      this.value(i, bytes, at, at + length)
      at += length
    }
    this.room(2)
    this.bytes[this.length++] = CLOSE
    this.bytes[this.length++] = NEWLINE
  }

  /** What has been written so far, as bytes of its own. */
  take(): Uint8Array {
    const taken = this.bytes.slice(0, this.length)
    this.length = 0
    return taken
  }

  private value(column: number, from: Uint8Array, start: number, end: number): void {
    switch (this.forms[column]!) {
      case 'quoted':
        return this.quoted(from, start, end)
      case 'int':
        return this.number(from, start, end, SAFE_DIGITS)
      case 'float':
        return this.number(from, start, end, Infinity)
      case 'bool':
        return this.put(encoder.encode(from[start] === 0x74 ? 'true' : 'false'))
      case 'json':
        return this.json(from, start, end)
      case 'list': {
        const { of, delimiter } = this.types[column] as Extract<LogicalType, { kind: 'list' }>
        const list = parseList(decoder.decode(from.subarray(start, end)), delimiter)
        return this.put(encoder.encode(JSON.stringify(elements(list, of))))
      }
    }
  }

  private number(from: Uint8Array, start: number, end: number, wholeDigits: number): void {
    if (isNumber(from, start, end, wholeDigits)) this.plain(from, start, end)
    else this.quoted(from, start, end)
  }

  /** An end of line in json stands between its parts only, where a space means the same. */
  private json(from: Uint8Array, start: number, end: number): void {
    this.room(end - start)
    for (let i = start; i < end; i++) {
      const byte = from[i]!
      this.bytes[this.length++] = byte === NEWLINE || byte === 0x0d ? SPACE : byte
    }
  }

  private plain(from: Uint8Array, start: number, end: number): void {
    this.room(end - start)
    for (let i = start; i < end; i++) this.bytes[this.length++] = from[i]!
  }

  private quoted(from: Uint8Array, start: number, end: number): void {
    // Every byte might need six.
    this.room(2 + 6 * (end - start))
    const to = this.bytes
    let at = this.length
    to[at++] = QUOTE
    for (let i = start; i < end; i++) {
      const byte = from[i]!
      if (byte >= 0x20 && byte !== QUOTE && byte !== BACKSLASH) to[at++] = byte
      else {
        to[at++] = BACKSLASH
        const short = byte >= 0x20 ? byte : SHORT_ESCAPES.get(byte)
        if (short !== undefined) to[at++] = short
        else {
          to[at++] = 0x75
          to[at++] = 0x30
          to[at++] = 0x30
          to[at++] = HEX[byte >> 4]!
          to[at++] = HEX[byte & 15]!
        }
      }
    }
    to[at++] = QUOTE
    this.length = at
  }

  private put(bytes: Uint8Array): void {
    this.room(bytes.length)
    for (let i = 0; i < bytes.length; i++) this.bytes[this.length++] = bytes[i]!
  }

  private room(size: number): void {
    if (this.length + size <= this.bytes.length) return
    const larger = new Uint8Array((this.length + size) * 2)
    larger.set(this.bytes.subarray(0, this.length))
    this.bytes = larger
  }
}

/** What JSON takes for a number: no NaN, no Infinity, no zeros before; and of no more digits. */
function isNumber(bytes: Uint8Array, start: number, end: number, most: number): boolean {
  const first = bytes[start] === 0x2d ? start + 1 : start
  if (bytes[first] === 0x2e || (bytes[first] === 0x30 && isDigit(bytes[first + 1]) && first + 1 < end))
    return false
  let digits = 0
  for (let i = start; i < end; i++) {
    const byte = bytes[i]!
    if (isDigit(byte)) digits++
    else if (byte !== 0x2e && byte !== 0x65 && byte !== 0x2d && byte !== 0x2b) return false
  }
  return digits > 0 && digits <= most
}

const isDigit = (byte: number | undefined) => byte !== undefined && byte >= 0x30 && byte <= 0x39

function elements(list: Nested, type: LogicalType): unknown[] {
  return list.map(item => {
    if (item === null || Array.isArray(item)) return item && elements(item, type)
    if (type.kind === 'bool') return item === 't'
    if (type.kind !== 'int' && type.kind !== 'float') return item
    const number = Number(item)
    return Number.isFinite(number) && String(number) === item ? number : item
  })
}
