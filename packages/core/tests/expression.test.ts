import { describe, expect, test } from '@jest/globals'
import {
  compileExpression,
  isFault,
  type Expression,
  type ExpressionColumn,
} from '@tide/core/expression/compile'
import {
  addDecimals,
  compareDecimals,
  multiplyDecimals,
  parseDecimal,
  printDecimal,
  roundDecimal,
  subtractDecimals,
} from '@tide/core/expression/decimal'
import { FUNCTIONS } from '@tide/core/expression/functions'
import { NoValue } from '@tide/core/expression/values'
import type { Value } from '@tide/core/records/value'
import { printType } from '@tide/core/records/types'
import fc from 'fast-check'

const COLUMNS: ExpressionColumn[] = [
  { name: 'id', type: { kind: 'int', bits: 32, signed: true }, nullable: false },
  { name: 'price', type: { kind: 'decimal', precision: 10, scale: 2 }, nullable: false },
  { name: 'note', type: { kind: 'utf8' }, nullable: true },
  { name: 'ratio', type: { kind: 'float', bits: 64 }, nullable: false },
  { name: 'at', type: { kind: 'timestamp', zoned: true }, nullable: false },
  { name: 'Breite / Länge', type: { kind: 'utf8' }, nullable: false },
  { name: 'uses', type: { kind: 'list', of: { kind: 'utf8' } }, nullable: false },
  { name: 'lost', type: { kind: 'int', bits: 64, signed: true }, nullable: true },
]
const ROW: Value[] = ['7', '12.50', null, '0.5', '2026-05-02 10:11:12.5+00', '3 / 14', '{a}', null]
const META = {
  operation: 'insert',
  committedAt: null,
  landedAt: '2026-05-02T10:00:00Z',
  position: null,
  origin: 'north',
  table: 's.t',
}
const compiled = (text: string): Expression => {
  const made = compileExpression(text, COLUMNS, one => `hash of ${one}`)
  if (isFault(made)) throw new Error(`${text}: ${made.message}`)
  return made
}
const value = (text: string, row = ROW) => compiled(text).of(row, META)

test.each(FUNCTIONS.map(({ name, example: [text, result] }) => [name, text, result]))(
  '%s does what its example says',
  (_, text, result) => expect(value(text)).toBe(result),
)

test.each([
  ['1 + 2 * 3', '7'],
  ['-7 / 2', '-3'],
  ['7 % 3', '1'],
  ['price * 1.19', '14.8750'],
  ['price / 3', '4.16666667'],
  ['price + id', '19.50'],
  ['0.1 + 0.2 == 0.3', 't'],
  ['ratio * 2.0', '1'],
  ['note == null ? "none" : note', 'none'],
  ['coalesce(note, "none") + "!"', 'none!'],
  ['orNull(upper(note))', null],
  ['has(note) && size(note) > 3', 'f'],
  ['lost != null && lost > 3 || id == 7', 't'],
  ['coalesce(lost, 0) + 1', '1'],
  ['row["Breite / Länge"] + "!"', '3 / 14!'],
  ['id in [1, 7]', 't'],
  ['id in []', 'f'],
  ['hash("a")', 'hash of a'],
  ['meta.origin + text(year(meta.landedAt))', 'north2026'],
  ['meta.committedAt == null', 't'],
  ['year(at) >= 2026', 't'],
  ['text(startOf(at, "day"))', '2026-05-02 00:00:00+00'],
  ['"\ud83c\udf31" < "\uffff"', 'f'],
  ['size("\ud83c\udf31b")', '2'],
  ['left("\ud83c\udf31b", 1)', '\ud83c\udf31'],
  ['1.50', '1.50'],
  ['true ? 1 : 2.5', '1'],
])('%s is %s', (text, result) => expect(value(text)).toBe(result))

test.each([
  ['price * 1.19', 'decimal(38,4)'],
  ['round(price, 1)', 'decimal(38,1)'],
  ['price / 3', 'decimal(38,8)'],
  ['round(price, id)', 'decimal without limits'],
  ['id + 1', 'int64'],
  ['coalesce(lost, 0)', 'int64'],
  ['id > 3', 'bool'],
  ['startOf(at, "day")', 'timestamp with zone'],
])('%s gives a %s', (text, type) => expect(printType(compiled(text).type)).toBe(type))

test.each<[string, RegExp, string]>([
  ['nonsense', /no column nonsense/, 'nonsense'],
  ['ID + 1', /no column ID/, 'ID'],
  ['id +', /cannot be read/, ''],
  ['note + "x"', /note may be null/, 'note'],
  ['upper(id)', /id is a whole number; upper takes a text/, 'id'],
  ['id + "x"', /does not know what to do/, 'id + "x"'],
  ['ratio + price', /mixes a double with an exact decimal/, 'ratio + price'],
  ['id ? 1 : 2', /id is a whole number, where true or false/, 'id'],
  ['id == "7"', /id is a whole number, and "7" is a text/, 'id == "7"'],
  ['uses', /a list of text, which expressions do not know/, 'uses'],
  ['nothing(1)', /no function nothing/, 'nothing(1)'],
  ['left("a")', /left takes 2 things, not 1/, 'left("a")'],
  ['meta.nothing', /no meta.nothing/, 'meta.nothing'],
  ['matches(text(id), "(")', /no regular expression/, 'matches(text(id), "(")'],
  ['[1].map(x, x)', /macros|no function/, '[1].map(x, x)'],
  ['note < null', /Nothing is more or less than null/, 'note < null'],
  ['x.y.z', /Only row and meta/, 'x.y.z'],
])('%s is refused, and where', (text, message, part) => {
  const made = compileExpression(text, COLUMNS, one => one)
  if (!isFault(made)) throw new Error('it was taken')
  expect(made.message).toMatch(message)
  expect(text.slice(made.from, made.to)).toBe(part)
  expect(made.remedy).not.toBe('')
})

test.each([
  ['id / 0', /0 is 0/],
  ['9223372036854775807 + id', /does not fit into 64 bits/],
  ['int("x")', /“x” is no number/],
  ['date("soon")', /“soon” is no date/],
])('%s has no value, which is said of the row', (text, message) => {
  expect(() => value(text)).toThrow(NoValue)
  expect(() => value(text)).toThrow(message)
})

test('whatever is written, it is compiled or refused, and a row has a value or not', () => {
  const word = fc.constantFrom(
    ...['id', 'note', 'price', '+', '-', '*', '/', '(', ')', '==', '&&', '?', ':', '"a"', '1', '2.5', ','],
    ...['coalesce(', 'upper(', 'orNull(', 'has(', 'null', 'in', '[', ']', 'row["note"]', 'meta.origin', '!'],
  )
  fc.assert(
    fc.property(fc.array(word, { maxLength: 12 }), words => {
      const made = compileExpression(words.join(' '), COLUMNS, one => one)
      if (isFault(made)) return
      try {
        const result = made.of(ROW, META)
        if (!made.nullable) expect(result).not.toBeNull()
      } catch (thrown) {
        expect(thrown).toBeInstanceOf(NoValue)
      }
    }),
    { numRuns: 3000 },
  )
})

describe('exact decimals', () => {
  const decimal = fc
    .tuple(fc.bigInt({ min: -(10n ** 20n), max: 10n ** 20n }), fc.integer({ min: 0, max: 9 }))
    .map(([unscaled, scale]) => ({ unscaled, scale }))

  test('are read as they are printed', () =>
    fc.assert(fc.property(decimal, one => expect(parseDecimal(printDecimal(one))).toEqual(one))))

  test('keep the laws of numbers', () =>
    fc.assert(
      fc.property(decimal, decimal, decimal, (a, b, c) => {
        expect(compareDecimals(subtractDecimals(addDecimals(a, b), b), a)).toBe(0)
        const left = multiplyDecimals(addDecimals(a, b), c)
        const right = addDecimals(multiplyDecimals(a, c), multiplyDecimals(b, c))
        expect(compareDecimals(left, right)).toBe(0)
        expect(Math.sign(compareDecimals(a, b)) + Math.sign(compareDecimals(b, a))).toBe(0)
      }),
    ))

  test('are rounded to the nearest, halves away from zero', () =>
    fc.assert(
      fc.property(decimal, fc.integer({ min: 0, max: 9 }), (one, digits) => {
        const rounded = roundDecimal(one, digits)
        const off = subtractDecimals(rounded, one)
        const half = { unscaled: 5n, scale: digits + 1 }
        const size = off.unscaled < 0n ? { ...off, unscaled: -off.unscaled } : off
        expect(compareDecimals(size, half)).toBeLessThanOrEqual(0)
        if (compareDecimals(size, half) === 0) expect(off.unscaled < 0n).toBe(one.unscaled < 0n)
      }),
    ))
})
