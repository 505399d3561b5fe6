/** A value in another type: the very same, or none. */
import { doubleDecimal } from '../expression/functions.ts'
import {
  parseDecimal,
  printDecimal,
  roundDecimal,
  compareDecimals,
  type Decimal,
} from '../expression/decimal.ts'
import { isReal, parseMoment, printDate, printMoment, type Moment } from '../expression/moments.ts'
import { NoValue } from '../expression/values.ts'
import { printType, type LogicalType } from '../records/types.ts'

/** From canonical text to canonical text. Throws NoValue for a value that the other type does not have. */
export type Retyping = (text: string) => string

/** Undefined where no value of the one could be one of the other. */
export function retypingOf(from: LogicalType, to: LogicalType): Retyping | undefined {
  switch (to.kind) {
    case 'utf8':
      return from.kind === 'binary' || from.kind === 'list' ? undefined : text => text
    case 'bool':
      return from.kind === 'bool'
        ? text => text
        : from.kind === 'int' || from.kind === 'utf8'
          ? toBool
          : undefined
    case 'int':
    case 'decimal':
    case 'float': {
      const read = numberOf(from)
      return read && toNumber(read, to)
    }
    case 'date':
    case 'timestamp': {
      const read = momentOf(from)
      return read && toMoment(read, to)
    }
    case 'uuid':
      return from.kind === 'uuid' || from.kind === 'utf8' ? toUuid : undefined
    case 'json':
      return from.kind === 'json' ? text => text : from.kind === 'utf8' ? toJson : undefined
    default:
      return undefined
  }
}

/** Different values stay different, and each value is always written in one way. */
export function keepsKeysApart(from: LogicalType, to: LogicalType): boolean {
  const exact = from.kind === 'int' || from.kind === 'date' || from.kind === 'uuid'
  if (to.kind === 'utf8') return exact || from.kind === 'utf8'
  return from.kind === 'int' && (to.kind === 'int' || to.kind === 'decimal')
}

function none(text: string, type: LogicalType): NoValue {
  return new NoValue(`“${text.slice(0, 60)}” is no ${printType(type)}`)
}

const BOOLS: Record<string, string> = {
  t: 't',
  true: 't',
  yes: 't',
  '1': 't',
  f: 'f',
  false: 'f',
  no: 'f',
  '0': 'f',
}

function toBool(text: string): string {
  const key = text.trim().toLowerCase()
  if (!Object.hasOwn(BOOLS, key)) throw none(text, { kind: 'bool' })
  return BOOLS[key]!
}

/** An exact number; undefined for what is none, such as `NaN`. */
type ReadNumber = (text: string) => Decimal | undefined

function numberOf(from: LogicalType): ReadNumber | undefined {
  switch (from.kind) {
    case 'int':
    case 'decimal':
    case 'utf8':
      return parseDecimal
    case 'float':
      return text => (Number.isFinite(Number(text)) ? doubleDecimal(Number(text)) : undefined)
    case 'bool':
      return text => ({ unscaled: text === 't' || text === 'true' ? 1n : 0n, scale: 0 })
    default:
      return undefined
  }
}

/** Doubles take the nearest number that they have; the others take none but the same. */
function toNumber(
  read: ReadNumber,
  to: Extract<LogicalType, { kind: 'int' | 'decimal' | 'float' }>,
): Retyping {
  if (to.kind === 'float') {
    return text => {
      const plain = text.trim()
      if (/^(NaN|-?Infinity)$/.test(plain)) return plain
      const value = read(plain)
      if (!value) throw none(text, to)
      const nearest = Number(printDecimal(value))
      return String(to.bits === 32 ? Math.fround(nearest) : nearest)
    }
  }
  const scale = to.kind === 'int' ? 0 : (to.scale ?? 0)
  const [least, most] = rangeOf(to)
  return text => {
    const value = read(text)
    if (!value) throw none(text, to)
    const fitted = roundDecimal(value, scale)
    if (compareDecimals(fitted, value) !== 0 || fitted.unscaled < least || fitted.unscaled > most)
      throw none(text, to)
    return printDecimal(fitted)
  }
}

/** Of the number without its point. */
function rangeOf(to: Extract<LogicalType, { kind: 'int' | 'decimal' }>): [least: bigint, most: bigint] {
  if (to.kind === 'decimal') {
    const most = 10n ** BigInt(to.precision ?? 38) - 1n
    return [-most, most]
  }
  const all = 2n ** BigInt(to.bits)
  return to.signed ? [-all / 2n, all / 2n - 1n] : [0n, all - 1n]
}

function momentOf(from: LogicalType): ((text: string) => Moment | undefined) | undefined {
  if (from.kind !== 'date' && from.kind !== 'timestamp' && from.kind !== 'utf8') return undefined
  return text => {
    const moment = parseMoment(text.trim())
    return moment && isReal(moment) ? moment : undefined
  }
}

/** What has no zone is taken for UTC. */
function toMoment(read: (text: string) => Moment | undefined, to: LogicalType): Retyping {
  return text => {
    const moment = read(text)
    if (!moment) throw none(text, to)
    if ('zoned' in to) return printMoment(moment, to.zoned)
    const { hour, minute, second, microseconds } = moment
    if (hour + minute + second + microseconds > 0) throw none(text, to)
    return printDate(moment)
  }
}

function toUuid(text: string): string {
  const plain = text.trim().toLowerCase()
  if (!/^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(plain)) throw none(text, { kind: 'uuid' })
  return plain
}

function toJson(text: string): string {
  try {
    JSON.parse(text)
  } catch {
    throw none(text, { kind: 'json' })
  }
  return text
}
