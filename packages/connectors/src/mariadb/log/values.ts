/**
 * Column values as row events hold them, into canonical text.
 * https://mariadb.com/kb/en/rows_event_v1v2-rows_compressed_event_v1/ and the field formats of the server's sources.
 */
import type { Value } from '@tide/core/records/value'
import { inflateRawSync, inflateSync } from 'node:zlib'
import { float32Text } from '../sql.ts'

/** A column as a table map event describes it. */
export interface MappedColumn {
  type: number
  meta: number
  unsigned: boolean
  /** Turns bytes of the column's character set into text; undefined: the bytes are binary. */
  decode: ((bytes: Buffer) => string) | undefined
  /** Of an enum or a set. */
  labels: string[]
  /** `uuid` is told as sixteen bytes that nothing else marks. */
  uuid: boolean
}

const [ENUM, SET] = [247, 248]

/** Types that `ValueReader` turns into canonical text; the others it can only pass over. */
const READABLE = new Set([
  1, 2, 3, 4, 5, 7, 8, 9, 10, 13, 14, 15, 16, 17, 18, 19, 140, 141, 246, 252, 253, 254,
])

export function canRead(type: number): boolean {
  return READABLE.has(type)
}

/** Reads values one after another. */
export class ValueReader {
  at: number
  private readonly bytes: Buffer

  constructor(bytes: Buffer, at: number) {
    this.bytes = bytes
    this.at = at
  }

  read(column: MappedColumn): Value {
    const { type, meta } = column
    switch (type) {
      case 1:
        return this.integer(1, column.unsigned)
      case 2:
        return this.integer(2, column.unsigned)
      case 9:
        return this.integer(3, column.unsigned)
      case 3:
        return this.integer(4, column.unsigned)
      case 8: {
        const value = column.unsigned
          ? this.bytes.readBigUInt64LE(this.at)
          : this.bytes.readBigInt64LE(this.at)
        this.at += 8
        return String(value)
      }
      case 4:
        return float32Text(this.bytes.readFloatLE(this.skip(4)))
      case 5:
        return String(this.bytes.readDoubleLE(this.skip(8)))
      case 246:
        return this.decimal(meta >> 8, meta & 0xff)
      case 13: {
        const year = this.bytes[this.skip(1)]!
        return String(year === 0 ? 0 : 1900 + year)
      }
      case 10:
      case 14: {
        const packed = this.bytes.readUIntLE(this.skip(3), 3)
        return date(packed >> 9, (packed >> 5) & 15, packed & 31)
      }
      case 7:
        return stamp(this.bytes.readUInt32LE(this.skip(4)), '')
      case 17: {
        const seconds = this.bytes.readUInt32BE(this.skip(4))
        return stamp(seconds, this.fraction(meta))
      }
      case 18:
        return this.dateTime(meta)
      case 19:
        return this.time(meta)
      case 15:
      case 253:
        return this.text(this.length(meta < 256 ? 1 : 2), column, 0)
      case 245:
      case 252:
      case 255:
        return this.text(this.length(meta), column, 0)
      case 140:
        return this.compressed(this.length(meta), column)
      case 141:
        return this.compressed(this.length(meta < 256 ? 1 : 2), column)
      case 11:
        return String(this.bytes.readUIntLE(this.skip(3), 3))
      case 12:
        return String(this.bytes.readBigUInt64LE(this.skip(8)))
      case 254:
        return this.string(column)
      case 16: {
        const size = (meta & 0xff) + (meta >> 8 > 0 ? 1 : 0)
        return String(BigInt(`0x${this.bytes.toString('hex', this.at, (this.at += size)) || '0'}`))
      }
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

  private integer(size: number, unsigned: boolean): string {
    const at = this.skip(size)
    return String(unsigned ? this.bytes.readUIntLE(at, size) : this.bytes.readIntLE(at, size))
  }

  private text(length: number, { decode }: MappedColumn, fixed: number): string {
    const bytes = this.bytes.subarray(this.at, (this.at += length))
    if (decode) return decode(bytes)
    // Trailing zero bytes of a fixed length are not sent.
    return `\\x${bytes.toString('hex').padEnd(fixed * 2, '0')}`
  }

  /**
   * A column that the server compresses: a byte that says how, the length, and zlib's data.
   * `Field_longstr::uncompress` and `column_compression.cc` in the server's sources.
   */
  private compressed(length: number, { decode }: MappedColumn): string {
    const packed = this.bytes.subarray(this.at, (this.at += length))
    const plain = length === 0 ? packed : unpacked(packed)
    return decode ? decode(plain) : `\\x${plain.toString('hex')}`
  }

  /** CHAR, BINARY, and what hides behind their type: the length takes two bits from the real type. */
  private string(column: MappedColumn): Value {
    const [high, low] = [column.meta >> 8, column.meta & 0xff]
    if (high === ENUM) {
      const index = this.length(low)
      return index === 0 ? '' : column.labels[index - 1]!
    }
    if (high === SET) {
      const bits = BigInt(
        `0x${Buffer.from(this.bytes.subarray(this.at, (this.at += low)))
          .reverse()
          .toString('hex')}`,
      )
      return column.labels.filter((_, i) => (bits >> BigInt(i)) & 1n).join(',')
    }
    const longest = low | (((high & 0x30) ^ 0x30) << 4)
    const length = this.length(longest < 256 ? 1 : 2)
    if (column.uuid) return uuid(this.bytes.subarray(this.at, (this.at += length)))
    return this.text(length, column, column.decode ? 0 : longest)
  }

  /** Groups of nine digits in four bytes each, the sign in the first bit, negative numbers inverted. */
  private decimal(precision: number, scale: number): string {
    const bytesOf = [0, 1, 1, 2, 2, 3, 3, 4, 4, 4]
    const whole = precision - scale
    const size =
      Math.floor(whole / 9) * 4 + bytesOf[whole % 9]! + Math.floor(scale / 9) * 4 + bytesOf[scale % 9]!
    const bytes = Buffer.from(this.bytes.subarray(this.at, (this.at += size)))
    const negative = (bytes[0]! & 0x80) === 0
    bytes[0]! ^= 0x80
    if (negative) for (let i = 0; i < size; i++) bytes[i]! ^= 0xff
    let at = 0
    const group = (digits: number) => {
      const length = bytesOf[digits]!
      const value = length === 0 ? 0 : bytes.readUIntBE(at, length)
      at += length
      return digits === 0 ? '' : String(value).padStart(digits, '0')
    }
    let left = group(whole % 9)
    for (let i = 0; i < Math.floor(whole / 9); i++) left += group(9)
    let right = ''
    for (let i = 0; i < Math.floor(scale / 9); i++) right += group(9)
    right += group(scale % 9)
    const text = `${left.replace(/^0+(?=\d)/, '') || '0'}${right === '' ? '' : `.${right}`}`
    return negative ? `-${text}` : text
  }

  /** Microseconds as `.5`; nothing when there are none. */
  private fraction(digits: number): string {
    const size = (digits + 1) >> 1
    if (size === 0) return ''
    const value = this.bytes.readUIntBE(this.skip(size), size) * 100 ** (3 - size)
    return fractionText(value)
  }

  private dateTime(digits: number): string {
    const high = this.bytes.readUIntBE(this.skip(5), 5) - 0x8000000000
    const days = Math.floor(high / 2 ** 17)
    const time = high % 2 ** 17
    const [yearMonth, day] = [Math.floor(days / 32), days % 32]
    return `${date(Math.floor(yearMonth / 13), yearMonth % 13, day)} ${clock(time >> 12, (time >> 6) & 63, time & 63)}${this.fraction(digits)}`
  }

  private time(digits: number): string {
    const extra = (digits + 1) >> 1
    const size = 3 + extra
    const signed = this.bytes.readUIntBE(this.skip(size), size) - 0x800000 * 256 ** extra
    const value = Math.abs(signed)
    const whole = Math.floor(value / 256 ** extra)
    const fraction = (value % 256 ** extra) * 100 ** (3 - extra)
    const text = `${clock(whole >> 12, (whole >> 6) & 63, whole & 63)}${extra > 0 ? fractionText(fraction) : ''}`
    return signed < 0 ? `-${text}` : text
  }
}

function unpacked(packed: Buffer): Buffer {
  const how = packed[0]!
  const method = how >> 4
  if (method === 0) return packed.subarray(1)
  if (method !== 8) throw new Error(`a column is compressed in a way that is not known (${method})`)
  const data = packed.subarray(1 + (how & 7))
  return (how & 8) !== 0 ? inflateRawSync(data) : inflateSync(data)
}

const two = (n: number) => String(n).padStart(2, '0')
const clock = (hours: number, minutes: number, seconds: number) =>
  `${two(hours)}:${two(minutes)}:${two(seconds)}`
const date = (year: number, month: number, day: number) =>
  `${String(year).padStart(4, '0')}-${two(month)}-${two(day)}`

function fractionText(microseconds: number): string {
  return microseconds === 0 ? '' : `.${String(microseconds).padStart(6, '0').replace(/0+$/, '')}`
}

/** The zero timestamp stands for no time at all. */
function stamp(seconds: number, fraction: string): string {
  if (seconds === 0 && fraction === '') return '0000-00-00 00:00:00+00'
  return `${new Date(seconds * 1000).toISOString().slice(0, 19).replace('T', ' ')}${fraction}+00`
}

function uuid(bytes: Buffer): string {
  const hex = bytes.toString('hex').padEnd(32, '0')
  return [hex.slice(0, 8), hex.slice(8, 12), hex.slice(12, 16), hex.slice(16, 20), hex.slice(20)].join('-')
}
