/**
 * Column values as row events hold them, into canonical text. Most are put down as bytes without becoming a text of
 * JavaScript's in between, which is what a log of large transactions spends its time on.
 * https://mariadb.com/kb/en/rows_event_v1v2-rows_compressed_event_v1/ and the field formats of the server's sources.
 */
import type { RowWriter } from '@tide/core/records/tuple'
import { isUtf8 } from 'node:buffer'
import { inflateRawSync, inflateSync } from 'node:zlib'
import { float32Text } from '../sql.ts'
import { utf8, type Decode } from './charsets.ts'
import {
  BIT,
  BLOB,
  COMPRESSED_BLOB,
  COMPRESSED_VARCHAR,
  DATE,
  DATETIME,
  DECIMAL,
  DOUBLE,
  ENUM,
  FLOAT,
  GEOMETRY,
  INT24,
  JSON_TEXT,
  LONG,
  LONGLONG,
  NEWDATE,
  OLD_DATETIME,
  OLD_TIME,
  OLD_TIMESTAMP,
  SET,
  SHORT,
  STRING,
  TIME,
  TIMESTAMP,
  TINY,
  VARCHAR,
  VAR_STRING,
  YEAR,
} from './column-types.ts'
import { padded, putDate, putClock, putFraction, putInteger, DASH, DOT, PLUS, SPACE, ZERO } from './digits.ts'

/** A column as a table map event describes it. */
export interface MappedColumn {
  type: number
  meta: number
  unsigned: boolean
  /** Turns bytes of the column's character set into text; undefined: the bytes are binary. */
  decode: Decode | undefined
  /** Of an enum or a set. */
  labels: string[]
  /** `uuid` is told as sixteen bytes that nothing else marks. */
  uuid: boolean
}

/** Up to this length bytes are handled one by one. */
const SHORT_BYTES = 32
/** The longest text that a number, a date or a time becomes. */
const LONGEST = 96

/** Reads values one after another, and writes them into a row. */
export class ValueReader {
  at: number
  private readonly bytes: Buffer
  private readonly out: RowWriter

  constructor(bytes: Buffer, at: number, out: RowWriter) {
    this.bytes = bytes
    this.at = at
    this.out = out
  }

  read(column: MappedColumn): void {
    const { type, meta } = column
    switch (type) {
      case VARCHAR:
      case VAR_STRING:
        return this.text(this.length(meta < 256 ? 1 : 2), column, 0)
      case BLOB:
      case JSON_TEXT:
      case GEOMETRY:
        return this.text(this.length(meta), column, 0)
      case STRING:
        return this.string(column)
      case COMPRESSED_BLOB:
        return this.compressed(this.length(meta), column)
      case COMPRESSED_VARCHAR:
        return this.compressed(this.length(meta < 256 ? 1 : 2), column)
      case FLOAT:
        return this.out.text(float32Text(this.bytes.readFloatLE(this.skip(4))))
      case DOUBLE:
        return this.out.text(String(this.bytes.readDoubleLE(this.skip(8))))
      case BIT: {
        const size = (meta & 0xff) + (meta >> 8 > 0 ? 1 : 0)
        const hex = this.bytes.toString('hex', this.at, (this.at += size))
        return this.out.text(String(BigInt(`0x${hex || '0'}`)))
      }
    }
    this.out.open(LONGEST)
    this.digits(column)
    this.out.close()
  }

  /** Values of which the text is digits and signs. */
  private digits({ type, meta, unsigned }: MappedColumn): void {
    const { bytes, out } = this
    switch (type) {
      case TINY:
        return this.integer(1, unsigned)
      case SHORT:
        return this.integer(2, unsigned)
      case INT24:
        return this.integer(3, unsigned)
      case LONG:
        return this.integer(4, unsigned)
      case LONGLONG:
        return this.long(unsigned)
      case OLD_TIME:
        return this.integer(3, true)
      case OLD_DATETIME:
        return this.long(true)
      case DECIMAL:
        return this.decimal(meta >> 8, meta & 0xff)
      case YEAR: {
        const year = bytes[this.skip(1)]!
        return putInteger(out, year === 0 ? 0 : 1900 + year)
      }
      case DATE:
      case NEWDATE: {
        const packed = bytes.readUIntLE(this.skip(3), 3)
        return putDate(out, packed >> 9, (packed >> 5) & 15, packed & 31)
      }
      case OLD_TIMESTAMP:
        return this.stamp(bytes.readUInt32LE(this.skip(4)), 0)
      case TIMESTAMP: {
        const seconds = bytes.readUInt32BE(this.skip(4))
        return this.stamp(seconds, this.fraction(meta))
      }
      case DATETIME:
        return this.dateTime(meta)
      case TIME:
        return this.time(meta)
      default:
        throw new Error(`a column of binlog type ${type} cannot be read`)
    }
  }

  private skip(size: number): number {
    const at = this.at
    this.at += size
    return at
  }

  private length(size: number): number {
    return this.bytes.readUIntLE(this.skip(size), size)
  }

  private integer(size: number, unsigned: boolean): void {
    const at = this.skip(size)
    putInteger(this.out, unsigned ? this.bytes.readUIntLE(at, size) : this.bytes.readIntLE(at, size))
  }

  private long(unsigned: boolean): void {
    const at = this.skip(8)
    const high = unsigned ? this.bytes.readUInt32LE(at + 4) : this.bytes.readInt32LE(at + 4)
    // Up to here every whole number is one of JavaScript's.
    if (high >= -0x200000 && high < 0x200000)
      return putInteger(this.out, high * 0x100000000 + this.bytes.readUInt32LE(at))
    const value = unsigned ? this.bytes.readBigUInt64LE(at) : this.bytes.readBigInt64LE(at)
    const text = String(value)
    for (let i = 0; i < text.length; i++) this.out.bytes[this.out.at++] = text.charCodeAt(i)
  }

  private text(length: number, { decode }: MappedColumn, fixed: number): void {
    const start = this.skip(length)
    if (!decode) return this.binary(this.bytes.subarray(start, start + length), fixed)
    if (decode === utf8 && this.unicode(start, length)) return
    this.out.text(decode(this.bytes.subarray(start, start + length)))
  }

  /** Text that is in UTF-8 already; whether it was. */
  private unicode(start: number, length: number): boolean {
    const { bytes, out } = this
    const plain = length <= SHORT_BYTES && this.plain(start, length)
    if (plain) return true
    const text = bytes.subarray(start, start + length)
    if (!isUtf8(text)) return false
    out.open(length)
    out.bytes.set(text, out.at)
    out.at += length
    out.close()
    return true
  }

  private plain(start: number, length: number): boolean {
    const { bytes, out } = this
    const before = out.at
    out.open(length)
    const { bytes: into, at } = out
    for (let i = 0; i < length; i++) {
      const byte = bytes[start + i]!
      if (byte > 0x7f) {
        out.at = before
        return false
      }
      into[at + i] = byte
    }
    out.at += length
    out.close()
    return true
  }

  /** Trailing zero bytes of a fixed length are not sent. */
  private binary(bytes: Buffer, fixed: number): void {
    this.out.text(`\\x${bytes.toString('hex').padEnd(fixed * 2, '0')}`)
  }

  /**
   * A column that the server compresses: a byte that says how, the length, and zlib's data.
   * `Field_longstr::uncompress` and `column_compression.cc` in the server's sources.
   */
  private compressed(length: number, { decode }: MappedColumn): void {
    const packed = this.bytes.subarray(this.at, (this.at += length))
    const plain = length === 0 ? packed : unpacked(packed)
    if (decode) this.out.text(decode(plain))
    else this.binary(plain, 0)
  }

  /** CHAR, BINARY, and what hides behind their type: the length takes two bits from the real type. */
  private string(column: MappedColumn): void {
    const [high, low] = [column.meta >> 8, column.meta & 0xff]
    if (high === ENUM) {
      const index = this.length(low)
      return this.out.text(index === 0 ? '' : column.labels[index - 1]!)
    }
    if (high === SET) {
      const bits = BigInt(
        `0x${Buffer.from(this.bytes.subarray(this.at, (this.at += low)))
          .reverse()
          .toString('hex')}`,
      )
      return this.out.text(column.labels.filter((_, i) => (bits >> BigInt(i)) & 1n).join(','))
    }
    const longest = low | (((high & 0x30) ^ 0x30) << 4)
    const length = this.length(longest < 256 ? 1 : 2)
    if (column.uuid) return this.out.text(uuid(this.bytes.subarray(this.at, (this.at += length))))
    this.text(length, column, column.decode ? 0 : longest)
  }

  /** Groups of nine digits in four bytes each, the sign in the first bit, negative numbers inverted. */
  private decimal(precision: number, scale: number): void {
    const { bytes, out } = this
    const whole = precision - scale
    const flip = (bytes[this.at]! & 0x80) === 0 ? 0xff : 0
    if (flip !== 0) out.bytes[out.at++] = DASH
    let sign = 0x80
    const group = (digits: number) => {
      let value = 0
      for (let left = GROUP[digits]!; left > 0; left--) {
        value = value * 256 + (bytes[this.at++]! ^ flip ^ sign)
        sign = 0
      }
      return value
    }
    let begun = false
    for (let digits = whole; digits > 0;) {
      const take = digits % 9 || 9
      const value = group(take)
      if (begun) padded(out, value, take)
      else if (value > 0) putInteger(out, value)
      begun ||= value > 0
      digits -= take
    }
    if (!begun) out.bytes[out.at++] = ZERO
    if (scale > 0) out.bytes[out.at++] = DOT
    for (let digits = scale; digits > 0;) {
      const take = Math.min(digits, 9)
      padded(out, group(take), take)
      digits -= take
    }
  }

  /** Microseconds. */
  private fraction(digits: number): number {
    const size = (digits + 1) >> 1
    return size === 0 ? 0 : this.bytes.readUIntBE(this.skip(size), size) * 100 ** (3 - size)
  }

  private dateTime(digits: number): void {
    const high = this.bytes.readUIntBE(this.skip(5), 5) - 0x8000000000
    const days = Math.floor(high / 2 ** 17)
    const time = high % 2 ** 17
    const [yearMonth, day] = [Math.floor(days / 32), days % 32]
    putDate(this.out, Math.floor(yearMonth / 13), yearMonth % 13, day)
    this.out.bytes[this.out.at++] = SPACE
    putClock(this.out, time >> 12, (time >> 6) & 63, time & 63)
    putFraction(this.out, this.fraction(digits))
  }

  private time(digits: number): void {
    const extra = (digits + 1) >> 1
    const size = 3 + extra
    const signed = this.bytes.readUIntBE(this.skip(size), size) - 0x800000 * 256 ** extra
    const value = Math.abs(signed)
    const whole = Math.floor(value / 256 ** extra)
    if (signed < 0) this.out.bytes[this.out.at++] = DASH
    putClock(this.out, whole >> 12, (whole >> 6) & 63, whole & 63)
    putFraction(this.out, (value % 256 ** extra) * 100 ** (3 - extra))
  }

  /** The zero timestamp stands for no time at all. */
  private stamp(seconds: number, microseconds: number): void {
    const { out } = this
    if (seconds === 0 && microseconds === 0) putDate(out, 0, 0, 0)
    else {
      const [year, month, day] = dayOf(Math.floor(seconds / 86400))
      putDate(out, year, month, day)
    }
    const left = seconds % 86400
    out.bytes[out.at++] = SPACE
    putClock(out, Math.floor(left / 3600), Math.floor(left / 60) % 60, left % 60)
    putFraction(out, microseconds)
    out.bytes[out.at++] = PLUS
    padded(out, 0, 2)
  }
}

/** How many bytes so many digits of a decimal take. */
const GROUP = [0, 1, 1, 2, 2, 3, 3, 4, 4, 4]

function unpacked(packed: Buffer): Buffer {
  const how = packed[0]!
  const method = how >> 4
  if (method === 0) return packed.subarray(1)
  if (method !== 8) throw new Error(`a column is compressed in a way that is not known (${method})`)
  const data = packed.subarray(1 + (how & 7))
  return (how & 8) !== 0 ? inflateRawSync(data) : inflateSync(data)
}

function uuid(bytes: Buffer): string {
  const hex = bytes.toString('hex').padEnd(32, '0')
  return [hex.slice(0, 8), hex.slice(8, 12), hex.slice(12, 16), hex.slice(16, 20), hex.slice(20)].join('-')
}

/** A day of the calendar by its number since 1970; most values of a log are of the same few days. */
function dayOf(number: number): [year: number, month: number, day: number] {
  if (number !== lastDay.number) {
    const date = new Date(number * 86_400_000)
    lastDay = { number, day: [date.getUTCFullYear(), date.getUTCMonth() + 1, date.getUTCDate()] }
  }
  return lastDay.day
}

let lastDay: { number: number; day: [number, number, number] } = { number: 0, day: [1970, 1, 1] }
