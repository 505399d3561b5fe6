/** What can be called in expressions. Each has an example, which the page shows and a test holds it to. */
import { RE2JS } from 're2js'
import { plainExpression } from '../naming/plain-expression.ts'
import { compareDecimals, floorDecimal, parseDecimal, roundDecimal, type Decimal } from './decimal.ts'
import { isReal, parseMoment, startOf, UNITS, type Moment, type Unit } from './moments.ts'
import { NoValue, printer, type ExpressionType, type Kind, type Known } from './values.ts'

export interface ExpressionFunction {
  name: string
  /** By place: what can stand there; those after `needed` may be left away. */
  takes: readonly (readonly Kind[])[]
  needed: number
  /** What it gives, by the types of what it was called with. */
  gives(types: readonly ExpressionType[]): ExpressionType
  /** None of the values is null. `literal`: by place, what is written there, where it is a literal. */
  make(
    types: readonly ExpressionType[],
    literals: readonly (Known | undefined)[],
  ): (...values: Known[]) => Known
  says: string
  example: readonly [expression: string, result: string]
}

const TEXT: readonly Kind[] = ['string']
const WHOLE: readonly Kind[] = ['int']
const NUMBER: readonly Kind[] = ['int', 'decimal', 'double']
const DAY: readonly Kind[] = ['date', 'timestamp', 'local timestamp']
const ANY: readonly Kind[] = ['bool', 'string', ...NUMBER, ...DAY]

const is = (kind: Kind) => () => ({ kind })

/** A function whose arguments are all needed, and that does the same whatever their types. */
function plain(
  name: string,
  takes: ExpressionFunction['takes'],
  kind: Kind,
  run: (...values: never[]) => Known,
  says: string,
  example: ExpressionFunction['example'],
): ExpressionFunction {
  return {
    name,
    takes,
    needed: takes.length,
    gives: is(kind),
    make: () => run as (...values: Known[]) => Known,
    says,
    example,
  }
}

/** Where all are in one plane, code points are JavaScript's own units. */
const points = (text: string): string[] | string => (/[\ud800-\udfff]/.test(text) ? [...text] : text)
const joined = (part: string[] | string) => (typeof part === 'string' ? part : part.join(''))
const cut = (text: string, from: number, to?: number) => joined(points(text).slice(from, to))

/** A whole number of digits or characters: what is too large is as good as all of them. */
function size(value: bigint): number {
  if (value < 0n) throw new NoValue(`${value} is less than 0`)
  return value > 100_000n ? 100_000 : Number(value)
}

function padded(text: string, wanted: bigint, filler: string): string {
  const missing = size(wanted) - points(text).length
  if (missing <= 0) return ''
  if (filler === '') throw new NoValue('there is nothing to fill it up with')
  return cut(filler.repeat(Math.ceil(missing / points(filler).length)), 0, missing)
}

interface Pattern {
  find(text: string): boolean
  replaceAll(text: string, by: string): string
}

function pattern(literal: Known | undefined): (text: string) => Pattern {
  if (typeof literal !== 'string') return patternOf
  const compiled = patternOf(literal)
  return () => compiled
}

function patternOf(expression: string): Pattern {
  let compiled: RE2JS
  try {
    compiled = RE2JS.compile(expression)
  } catch (error) {
    throw new NoValue(`“${expression.slice(0, 60)}” is no regular expression: ${(error as Error).message}`)
  }
  const plain = plainExpression(expression)
  return {
    find: text => (plain ? text.search(plain) >= 0 : compiled.matcher(text).find()),
    // What a dollar sign stands for is RE2's to say.
    replaceAll: (text, by) =>
      plain && !by.includes('$') ? text.replace(plain, () => by) : compiled.matcher(text).replaceAll(by),
  }
}

export function asDecimal(value: Known): Decimal {
  if (typeof value === 'bigint') return { unscaled: value, scale: 0 }
  return value as Decimal
}

const LARGEST = 2n ** 63n

/** Throws NoValue for what 64 bits do not hold. */
export function asInt(value: bigint): bigint {
  if (value >= LARGEST || value < -LARGEST) throw new NoValue(`${value} does not fit into 64 bits`)
  return value
}

/** Throws NoValue for infinity and what is no number. */
export function doubleDecimal(value: number): Decimal {
  // No shorter text is read as the same number.
  const [digits, exponent = '0'] = String(value).split('e')
  const decimal = Number.isFinite(value) ? parseDecimal(digits!) : undefined
  if (!decimal) throw new NoValue(`${value} is no decimal number`)
  const scale = decimal.scale - Number(exponent)
  return scale >= 0
    ? { unscaled: decimal.unscaled, scale }
    : { unscaled: decimal.unscaled * 10n ** BigInt(-scale), scale: 0 }
}

/** Of several, the first or the last in order; all of one type. */
function outermost(name: 'least' | 'greatest', sign: 1 | -1): ExpressionFunction {
  return {
    name,
    takes: [NUMBER, NUMBER],
    needed: 2,
    gives: ([a, b]) => commonNumber(a!, b!),
    make: ([a, b]) => {
      const { kind } = commonNumber(a!, b!)
      if (kind === 'double') return (x, y) => (sign * (Number(x) - Number(y)) <= 0 ? Number(x) : Number(y))
      if (kind === 'int') return (x, y) => (sign > 0 === x < y ? x : y)
      return (x, y) => (sign * compareDecimals(asDecimal(x), asDecimal(y)) <= 0 ? asDecimal(x) : asDecimal(y))
    },
    says: `the ${name === 'least' ? 'lesser' : 'greater'} of two numbers`,
    example: [`${name}(3, 5)`, name === 'least' ? '3' : '5'],
  }
}

/** The type in which two numbers are computed with. Doubles and exact decimals do not meet by themselves. */
export function commonNumber(a: ExpressionType, b: ExpressionType): ExpressionType {
  if (a.kind === 'double' || b.kind === 'double') return { kind: 'double' }
  if (a.kind === 'int' && b.kind === 'int') return { kind: 'int' }
  const scaleOf = (type: ExpressionType) => (type.kind === 'int' ? 0 : type.scale)
  const scales = [scaleOf(a), scaleOf(b)]
  return scales.includes(undefined)
    ? { kind: 'decimal' }
    : { kind: 'decimal', scale: Math.max(...(scales as number[])) }
}

const part = (name: Unit, says: string, result: string) =>
  plain(name, [DAY], 'int', (moment: Moment) => BigInt(moment[name]), says, [
    `${name}(timestamp("2026-05-02 10:11:12"))`,
    result,
  ])

export const FUNCTIONS: readonly ExpressionFunction[] = [
  plain('upper', [TEXT], 'string', (text: string) => text.toUpperCase(), 'in upper case', [
    'upper("Salix é")',
    'SALIX É',
  ]),
  plain('lower', [TEXT], 'string', (text: string) => text.toLowerCase(), 'in lower case', [
    'lower("Salix")',
    'salix',
  ]),
  plain('trim', [TEXT], 'string', (text: string) => text.trim(), 'without space at its ends', [
    'trim("  bed 4 ")',
    'bed 4',
  ]),
  plain(
    'replace',
    [TEXT, TEXT, TEXT],
    'string',
    (text: string, found: string, by: string) => text.replaceAll(found, () => by),
    'every occurrence of a text becomes another',
    ['replace("a-b-c", "-", "/")', 'a/b/c'],
  ),
  {
    name: 'replaceMatches',
    takes: [TEXT, TEXT, TEXT],
    needed: 3,
    gives: is('string'),
    make: (_, [, literal]) => {
      const compiled = pattern(literal)
      return (text, found, by) => compiled(found as string).replaceAll(text as string, by as string)
    },
    says: 'every match of a regular expression (RE2) becomes another text, in which $1 is the first group',
    example: ['replaceMatches("bed 12", "[0-9]+", "n")', 'bed n'],
  },
  {
    name: 'matches',
    takes: [TEXT, TEXT],
    needed: 2,
    gives: is('bool'),
    make: (_, [, literal]) => {
      const compiled = pattern(literal)
      return (text, found) => compiled(found as string).find(text as string)
    },
    says: 'whether a regular expression (RE2) matches somewhere in it',
    example: ['matches("bed 12", "^bed")', 't'],
  },
  plain(
    'startsWith',
    [TEXT, TEXT],
    'bool',
    (a: string, b: string) => a.startsWith(b),
    'whether it begins so',
    ['"bed 12".startsWith("bed")', 't'],
  ),
  plain('endsWith', [TEXT, TEXT], 'bool', (a: string, b: string) => a.endsWith(b), 'whether it ends so', [
    'endsWith("bed 12", "3")',
    'f',
  ]),
  plain('contains', [TEXT, TEXT], 'bool', (a: string, b: string) => a.includes(b), 'whether that is in it', [
    'contains("bed 12", "d 1")',
    't',
  ]),
  plain('size', [TEXT], 'int', (text: string) => BigInt(points(text).length), 'how many characters it has', [
    'size("Höhe")',
    '4',
  ]),
  plain(
    'left',
    [TEXT, WHOLE],
    'string',
    (text: string, n: bigint) => cut(text, 0, size(n)),
    'its first characters',
    ['left("Salix", 3)', 'Sal'],
  ),
  plain(
    'right',
    [TEXT, WHOLE],
    'string',
    (text: string, n: bigint) => cut(text, Math.max(0, points(text).length - size(n))),
    'its last characters',
    ['right("Salix", 2)', 'ix'],
  ),
  {
    name: 'substring',
    takes: [TEXT, WHOLE, WHOLE],
    needed: 2,
    gives: is('string'),
    make: () => (text, from, to?: Known) =>
      cut(text as string, size(from as bigint), to === undefined ? undefined : size(to as bigint)),
    says: 'from one place, counted from 0, up to another',
    example: ['substring("Salix", 1, 3)', 'al'],
  },
  plain(
    'part',
    [TEXT, TEXT, WHOLE],
    'string',
    (text: string, by: string, n: bigint) => (by === '' ? [text] : text.split(by))[size(n)] ?? '',
    'a part between separators, counted from 0; empty where there is none',
    ['part("3 / 14", " / ", 1)', '14'],
  ),
  plain(
    'padLeft',
    [TEXT, WHOLE, TEXT],
    'string',
    (text: string, n: bigint, filler: string) => padded(text, n, filler) + text,
    'filled up before it to so many characters',
    ['padLeft("7", 3, "0")', '007'],
  ),
  plain(
    'padRight',
    [TEXT, WHOLE, TEXT],
    'string',
    (text: string, n: bigint, filler: string) => text + padded(text, n, filler),
    'filled up after it to so many characters',
    ['padRight("7", 3, ".")', '7..'],
  ),
  {
    name: 'text',
    takes: [ANY],
    needed: 1,
    gives: is('string'),
    make: ([type]) => printer(type!),
    says: 'as text',
    example: ['text(4.50)', '4.50'],
  },
  {
    name: 'int',
    takes: [['string', ...NUMBER]],
    needed: 1,
    gives: is('int'),
    make:
      ([type]) =>
      value => {
        if (typeof value === 'bigint') return value
        const decimal =
          type!.kind === 'double'
            ? doubleDecimal(value as number)
            : type!.kind === 'string'
              ? parseDecimal(value as string)
              : (value as Decimal)
        if (!decimal) throw new NoValue(`“${String(value).slice(0, 60)}” is no number`)
        const whole = roundDecimal(decimal, 0)
        if (type!.kind === 'string' && compareDecimals(whole, decimal) !== 0)
          throw new NoValue(`“${String(value).slice(0, 60)}” is no whole number`)
        return asInt(whole.unscaled)
      },
    says: 'as a whole number, rounded',
    example: ['int("42")', '42'],
  },
  {
    name: 'decimal',
    takes: [['string', ...NUMBER]],
    needed: 1,
    gives: ([type]) => (type!.kind === 'int' ? { kind: 'decimal', scale: 0 } : { ...type!, kind: 'decimal' }),
    make:
      ([type]) =>
      value => {
        if (type!.kind === 'double') return doubleDecimal(value as number)
        if (type!.kind !== 'string') return asDecimal(value)
        const decimal = parseDecimal(value as string)
        if (!decimal) throw new NoValue(`“${String(value).slice(0, 60)}” is no number`)
        return decimal
      },
    says: 'as an exact decimal number',
    example: ['decimal("4.50") + 1', '5.50'],
  },
  {
    name: 'double',
    takes: [['string', ...NUMBER]],
    needed: 1,
    gives: is('double'),
    make:
      ([type]) =>
      value => {
        const text = printer(type!)(value)
        const number = text.trim() === '' ? NaN : Number(text)
        if (Number.isNaN(number) && text !== 'NaN') throw new NoValue(`“${text.slice(0, 60)}” is no number`)
        return number
      },
    says: 'as a number of double precision',
    example: ['double("0.5") * 3', '1.5'],
  },
  {
    name: 'round',
    takes: [NUMBER, WHOLE],
    needed: 1,
    gives: ([type]) => (type!.kind === 'double' || type!.kind === 'int' ? type! : { kind: 'decimal' }),
    make: ([type]) => {
      if (type!.kind === 'int') return value => value
      if (type!.kind === 'double')
        return (value, digits: Known = 0n) =>
          Number.isFinite(value)
            ? Number(
                printer({ kind: 'decimal' })(
                  roundDecimal(doubleDecimal(value as number), size(digits as bigint)),
                ),
              )
            : value
      return (value, digits: Known = 0n) => roundDecimal(value as Decimal, size(digits as bigint))
    },
    says: 'with so many digits after the point, none if that is left away; halves go away from zero',
    example: ['round(2.345, 2)', '2.35'],
  },
  plain(
    'floor',
    [['int', 'decimal']],
    'int',
    (value: Known) => asInt(floorDecimal(asDecimal(value))),
    'the greatest whole number that is not greater',
    ['floor(-1.5)', '-2'],
  ),
  {
    name: 'abs',
    takes: [NUMBER],
    needed: 1,
    gives: ([type]) => type!,
    make: ([type]) =>
      type!.kind === 'double'
        ? value => Math.abs(value as number)
        : type!.kind === 'int'
          ? value => asInt((value as bigint) < 0n ? -(value as bigint) : (value as bigint))
          : value => {
              const { unscaled, scale } = value as Decimal
              return { unscaled: unscaled < 0n ? -unscaled : unscaled, scale }
            },
    says: 'without its sign',
    example: ['abs(-2.5)', '2.5'],
  },
  outermost('least', 1),
  outermost('greatest', -1),
  part('year', 'its year', '2026'),
  part('month', 'its month, 1 to 12', '5'),
  part('day', 'its day of the month', '2'),
  part('hour', 'its hour; in UTC where it has a zone', '10'),
  part('minute', 'its minute', '11'),
  plain(
    'date',
    [['string', ...DAY]],
    'date',
    (value: Known) => moment(value),
    'its day; in UTC where it has a zone',
    ['date("2026-05-02")', '2026-05-02'],
  ),
  plain('timestamp', [TEXT], 'timestamp', (value: Known) => moment(value), 'a moment in UTC, from its text', [
    'timestamp("2026-05-02 10:11:12")',
    '2026-05-02 10:11:12+00',
  ]),
  plain(
    'localTimestamp',
    [TEXT],
    'local timestamp',
    (value: Known) => moment(value),
    'a moment without a zone, from its text',
    ['localTimestamp("2026-05-02 10:11:12")', '2026-05-02 10:11:12'],
  ),
  {
    name: 'startOf',
    takes: [['timestamp', 'local timestamp', 'date'], TEXT],
    needed: 2,
    gives: ([type]) => type!,
    make: () => (value, unit) => {
      if (!UNITS.includes(unit as Unit))
        throw new NoValue(`“${String(unit).slice(0, 20)}” is none of ${UNITS.join(', ')}`)
      return startOf(value as Moment, unit as Unit)
    },
    says: 'when its year, month, day, hour, minute or second began',
    example: ['startOf(timestamp("2026-05-02 10:11:12"), "month")', '2026-05-01 00:00:00+00'],
  },
]

function moment(value: Known): Moment {
  if (typeof value !== 'string') return value as Moment
  const found = parseMoment(value)
  if (!found || !isReal(found)) throw new NoValue(`“${value.slice(0, 60)}” is no date`)
  return found
}
