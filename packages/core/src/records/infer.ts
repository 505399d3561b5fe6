/** Texts as people and programs write them into files: which type they are of, and their canonical text. */
import { isReal, parseMoment, printMoment, type Moment } from '../expression/moments.ts'
import type { LogicalType } from './types.ts'

const INT = /^[+-]?\d{1,19}$/
const DECIMAL = /^([+-]?)(\d+)(?:\.(\d+))?$/
const FLOAT = /^[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d{1,3})?$/i
const DATE = /^\d{4}-\d\d-\d\d$/
const MOMENT = /^(\d{4}-\d\d-\d\d)[T ](\d\d:\d\d(?::\d\d(?:\.\d{1,6})?)?) ?(Z|[+-]\d\d(?::?\d\d)?)?$/i
const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i
const BOOLS = new Map([
  ['true', 't'],
  ['t', 't'],
  ['false', 'f'],
  ['f', 'f'],
])

/** The value that the text stands for; undefined: none of the type. */
export function canonicalOf(text: string, type: LogicalType): string | undefined {
  switch (type.kind) {
    case 'utf8':
      return text
    case 'bool':
      return BOOLS.get(text.toLowerCase())
    case 'int':
      return canonicalInt(text, type)
    case 'decimal':
      return canonicalDecimal(text, type)
    case 'float':
      if (text === 'NaN' || text === 'Infinity' || text === '-Infinity') return text
      return FLOAT.test(text) && Number.isFinite(Number(text)) ? String(Number(text)) : undefined
    case 'date': {
      const moment = DATE.test(text) ? parseMoment(text) : undefined
      return moment && isReal(moment) ? text : undefined
    }
    case 'timestamp':
      return canonicalTimestamp(text, type.zoned)
    case 'uuid':
      return UUID.test(text) ? text.toLowerCase() : undefined
    case 'json':
      return isJson(text) ? text : undefined
    default:
      return undefined
  }
}

function canonicalInt(
  text: string,
  { bits, signed }: Extract<LogicalType, { kind: 'int' }>,
): string | undefined {
  if (!INT.test(text) && !/^\+?\d{20}$/.test(text)) return undefined
  const value = BigInt(text.replace(/^\+/, ''))
  const range = 1n << BigInt(signed ? bits - 1 : bits)
  return value < range && value >= (signed ? -range : 0n) ? String(value) : undefined
}

function canonicalDecimal(
  text: string,
  { precision, scale = 0 }: Extract<LogicalType, { kind: 'decimal' }>,
): string | undefined {
  const parts = DECIMAL.exec(text)
  if (!parts) return undefined
  const [, sign, whole = '', fraction = ''] = parts
  const digits = whole.replace(/^0+(?=\d)/, '')
  const behind = fraction.replace(/0+$/, '')
  if (
    precision !== undefined &&
    (behind.length > scale || digits.replace(/^0$/, '').length > precision - scale)
  )
    return undefined
  const value = behind === '' ? digits : `${digits}.${behind}`
  return sign === '-' && /[1-9]/.test(value) ? `-${value}` : value
}

/** In UTC where it has an offset; a time without one is of no zone. */
function canonicalTimestamp(text: string, zoned: boolean): string | undefined {
  const parts = MOMENT.exec(text)
  if (!parts || (parts[3] !== undefined) !== zoned) return undefined
  const moment = parseMoment(`${parts[1]} ${parts[2]}`)
  if (!moment || !isReal(moment)) return undefined
  if (!zoned) return printMoment(moment, false)
  const [, sign, hours, minutes = '0'] = /^([+-])(\d\d):?(\d\d)?$/.exec(parts[3]!) ?? []
  if (sign === undefined) return printMoment(moment, true)
  if (Number(hours) > 15 || Number(minutes) > 59) return undefined
  return printMoment(moved(moment, (Number(hours) * 60 + Number(minutes)) * (sign === '-' ? 1 : -1)), true)
}

function moved({ microseconds, ...moment }: Moment, minutes: number): Moment {
  const { year, month, day, hour, minute, second } = moment
  const at = new Date(0)
  at.setUTCFullYear(year, month - 1, day)
  at.setUTCHours(hour, minute + minutes, second)
  return {
    year: at.getUTCFullYear(),
    month: at.getUTCMonth() + 1,
    day: at.getUTCDate(),
    hour: at.getUTCHours(),
    minute: at.getUTCMinutes(),
    second: at.getUTCSeconds(),
    microseconds,
  }
}

function isJson(text: string): boolean {
  try {
    JSON.parse(text)
    return true
  } catch {
    return false
  }
}

/** Numbers of so many digits are taken for numbers, more for texts. */
const MOST_DIGITS = 38
const PLAIN: LogicalType[] = [
  { kind: 'bool' },
  { kind: 'int', bits: 64, signed: true },
  { kind: 'date' },
  { kind: 'timestamp', zoned: true },
  { kind: 'timestamp', zoned: false },
  { kind: 'uuid' },
]

/** The narrowest type that all of these texts are of; what begins with a zero, such as a number of an article, is a text. */
export function inferType(texts: readonly string[]): LogicalType {
  if (texts.length === 0 || texts.some(text => /^[+-]?0\d/.test(text) && DECIMAL.test(text)))
    return { kind: 'utf8' }
  const all = (type: LogicalType) => texts.every(text => canonicalOf(text, type) !== undefined)
  const plain = PLAIN.find(all)
  if (plain) return plain
  if (texts.every(text => DECIMAL.test(text))) {
    const parts = texts.map(text => DECIMAL.exec(text)!)
    const scale = Math.max(...parts.map(([, , , fraction = '']) => fraction.length))
    const whole = Math.max(...parts.map(([, , digits]) => digits!.length))
    if (whole + scale <= MOST_DIGITS)
      return { kind: 'decimal', precision: whole + scale <= 18 ? 18 : 38, scale }
  }
  if (all({ kind: 'float', bits: 64 })) return { kind: 'float', bits: 64 }
  if (texts.every(text => /^\s*[[{]/.test(text)) && all({ kind: 'json' })) return { kind: 'json' }
  return { kind: 'utf8' }
}
