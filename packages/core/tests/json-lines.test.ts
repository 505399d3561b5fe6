import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import { JsonLinesWriter } from '../src/records/json-lines.ts'
import { packRow } from '../src/records/tuple.ts'
import type { LogicalType } from '../src/records/types.ts'

const decoder = new TextDecoder()

function lineOf(type: LogicalType, value: string | null): string {
  const writer = new JsonLinesWriter([{ name: 'a "name"\n', type }], 16)
  writer.row(packRow([value]))
  return decoder.decode(writer.take())
}

const read = (line: string) => (JSON.parse(line) as Record<string, unknown>)['a "name"\n']
const list: LogicalType = { kind: 'list', of: { kind: 'utf8' } }

test('any text comes back, on one line', () => {
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme' }), fc.string({ unit: 'binary' }), (text, odd) => {
      for (const value of [text, odd, `${text}\u0000\u001f\t"\\${odd}`]) {
        // Half of a pair is no text.
        fc.pre(decoder.decode(new TextEncoder().encode(value)) === value)
        const line = lineOf({ kind: 'utf8' }, value)
        expect(read(line)).toBe(value)
        expect(line.indexOf('\n')).toBe(line.length - 1)
      }
    }),
  )
})

test('numbers are read as they were printed, or are texts', () => {
  const int: LogicalType = { kind: 'int', bits: 64, signed: true }
  fc.assert(
    fc.property(fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n }), number => {
      expect(String(read(lineOf(int, String(number))))).toBe(String(number))
    }),
  )
  fc.assert(
    fc.property(fc.double({ noNaN: true, noDefaultInfinity: true }), number => {
      expect(read(lineOf({ kind: 'float', bits: 64 }, String(number)))).toBe(number === 0 ? 0 : number)
    }),
  )
  for (const odd of ['NaN', 'Infinity', '-Infinity', '007', '.5', '-01', ''])
    expect(read(lineOf({ kind: 'float', bits: 64 }, odd))).toBe(odd)
  expect(read(lineOf({ kind: 'decimal', precision: 8, scale: 2 }, '1.50'))).toBe('1.50')
})

test('json stays as it is, lists are arrays, truth is true or false', () => {
  fc.assert(
    fc.property(fc.json(), json => {
      expect(read(lineOf({ kind: 'json' }, json))).toEqual(JSON.parse(json))
      expect(lineOf({ kind: 'json' }, `{\n"a":\r\n${json}}`).split('\n')).toHaveLength(2)
    }),
  )
  expect(read(lineOf(list, '{a,NULL,"b \\"c\\""}'))).toEqual(['a', null, 'b "c"'])
  expect(
    read(lineOf({ kind: 'list', of: { kind: 'int', bits: 32, signed: true } }, '{{1,2},{3,4}}')),
  ).toEqual([
    [1, 2],
    [3, 4],
  ])
  expect(read(lineOf({ kind: 'bool' }, 't'))).toBe(true)
  expect(read(lineOf({ kind: 'bool' }, 'f'))).toBe(false)
  expect(read(lineOf({ kind: 'utf8' }, null))).toBeNull()
})
