/**
 * How the values of a logical type are ordered: numbers as numbers, texts by code point, times as moments; NaN equals
 * itself and is greatest, as in SQL.
 */
import type { LogicalType } from '../records/types.ts'

/** What a value is compared by; equal values have equal ones. */
export interface ValueOrder<T = unknown> {
  /** From canonical text; `undefined`: it is no value of the type. */
  parse(text: string): T | undefined
  compare(a: T, b: T): number
  /** Whether less and more mean something. */
  ordered: boolean
}

export function orderOf(type: LogicalType): ValueOrder {
  return ORDERS[type.kind] as ValueOrder
}

const FALSE_OR_TRUE = new Map([
  ['f', 0],
  ['false', 0],
  ['t', 1],
  ['true', 1],
])

const text: ValueOrder<string> = { parse: one => one, compare: compareText, ordered: true }

const asPrinted: ValueOrder<string> = { ...text, ordered: false }

const float: ValueOrder<number> = {
  parse: one =>
    one === 'NaN' ? NaN : one.trim() === '' || Number.isNaN(Number(one)) ? undefined : Number(one),
  compare: (a, b) => {
    if (Number.isNaN(a) || Number.isNaN(b)) return Number(Number.isNaN(a)) - Number(Number.isNaN(b))
    return a < b ? -1 : a > b ? 1 : 0
  },
  ordered: true,
}

/** A number for what a double holds exactly; else its sign, its whole digits and its fraction. */
type Exact = number | { negative: boolean; whole: string; fraction: string }

/** So many digits a double holds, whatever they are. */
const SAFE_DIGITS = 15

const exact: ValueOrder<Exact> = {
  parse: one => {
    if (one === 'NaN' || one === 'Infinity' || one === '-Infinity') return Number(one)
    const parts = /^(-?)0*(\d*)(?:\.(\d*?)0*)?$/.exec(one.trim())
    if (!parts || !/\d/.test(one)) return undefined
    const [, sign, whole = '', fraction = ''] = parts
    if (fraction === '' && whole.length <= SAFE_DIGITS) return Number(`${sign}${whole}`) || 0
    return { negative: sign === '-', whole, fraction }
  },
  compare: (a, b) => {
    if (typeof a === 'number' && typeof b === 'number') return float.compare(a, b)
    if (typeof a === 'number' && !Number.isFinite(a)) return a === -Infinity ? -1 : 1
    if (typeof b === 'number' && !Number.isFinite(b)) return b === -Infinity ? 1 : -1
    return compareDigits(digitsOf(a), digitsOf(b))
  },
  ordered: true,
}

type Digits = Exclude<Exact, number>

function digitsOf(value: Exact): Digits {
  if (typeof value !== 'number') return value
  return { negative: value < 0, whole: value === 0 ? '' : String(Math.abs(value)), fraction: '' }
}

function compareDigits(a: Digits, b: Digits): number {
  if (a.negative !== b.negative) return a.negative ? -1 : 1
  const size =
    a.whole.length - b.whole.length || compareText(a.whole, b.whole) || compareText(a.fraction, b.fraction)
  return a.negative ? -size : size
}

const MOMENT =
  /^(\d{4,6})-(\d\d)-(\d\d)(?:[ T](\d\d):(\d\d)(?::(\d\d)(?:\.(\d{1,6}))?)?)?(?:Z|[+-]00(?::?00)?)?( BC)?$/

/** The commonest form, which needs no taking apart. */
const PLAIN_MOMENT = /^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\+00)?$/

/** As a text that sorts as the moments do. What has a zone is in UTC. */
const moment: ValueOrder<string> = {
  parse: one => {
    if (one === '-infinity') return 'A'
    if (one === 'infinity') return 'Z'
    if (PLAIN_MOMENT.test(one)) return `D00${one.slice(0, 19)}.000000`
    const parts = MOMENT.exec(one)
    if (!parts) return undefined
    const [, year, month, day, hour = '00', minute = '00', second = '00', fraction = '', bc] = parts
    const years = bc ? `B${999_999 - Number(year)}` : `D${year!.padStart(6, '0')}`
    return `${years}-${month}-${day} ${hour}:${minute}:${second}.${fraction.padEnd(6, '0')}`
  },
  compare: compareText,
  ordered: true,
}

const TIME = /^(-?)(\d{2,3}):(\d\d)(?::(\d\d)(?:\.(\d{1,6}))?)?$/

/** In microseconds; MariaDB's go below zero and beyond a day. */
const time: ValueOrder<number> = {
  parse: one => {
    const parts = TIME.exec(one)
    if (!parts) return undefined
    const [, sign, hours, minutes, seconds = '0', fraction = ''] = parts
    const whole = (Number(hours) * 60 + Number(minutes)) * 60 + Number(seconds)
    const micros = whole * 1_000_000 + Number(fraction.padEnd(6, '0'))
    return sign ? -micros : micros
  },
  compare: (a, b) => a - b,
  ordered: true,
}

const bool: ValueOrder<number> = {
  parse: one => FALSE_OR_TRUE.get(one.toLowerCase()),
  compare: (a, b) => a - b,
  ordered: true,
}

const lowerCase: ValueOrder<string> = { ...text, parse: one => one.toLowerCase() }

const ORDERS = {
  bool,
  utf8: text,
  binary: lowerCase,
  date: moment,
  timestamp: moment,
  time,
  uuid: lowerCase,
  json: asPrinted,
  interval: asPrinted,
  int: exact,
  decimal: exact,
  float,
  list: asPrinted,
  other: asPrinted,
} satisfies Record<LogicalType['kind'], unknown>

/** By code point, where JavaScript's own order is by UTF-16 unit. */
export function compareText(a: string, b: string): number {
  if (a === b) return 0
  const most = Math.min(a.length, b.length)
  let at = 0
  while (at < most && a.charCodeAt(at) === b.charCodeAt(at)) at++
  if (at === most) return a.length - b.length
  const [left, right] = [a.charCodeAt(at), b.charCodeAt(at)]
  // What is not of the first plane comes after all that is, though its units are below U+E000.
  const beyond = (unit: number) => (unit >= 0xd800 && unit <= 0xdfff ? 1 : 0)
  return beyond(left) - beyond(right) || left - right
}
