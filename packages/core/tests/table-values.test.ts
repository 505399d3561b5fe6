/** Values of tables as apps would say them: nothing is lost on the way there and back. */
import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import { datasetOfPlace, placeName, tableObject } from '../src/app/table-object.ts'
import { canonicalOf, toldAs } from '../src/app/table-values.ts'
import { parseList } from '../src/records/list.ts'
import type { Dataset } from '../src/records/dataset.ts'
import type { LogicalType } from '../src/records/types.ts'

const two = (most: number, least = 0) =>
  fc.integer({ min: least, max: most }).map(n => String(n).padStart(2, '0'))
const fraction = fc.oneof(
  fc.constant(''),
  fc.integer({ min: 1, max: 999_999 }).map(n => `.${String(n).padStart(6, '0')}`),
)
const moment = fc
  .tuple(fc.integer({ min: 1000, max: 9999 }), two(12, 1), two(28, 1), two(23), two(59), two(59), fraction)
  .map(([year, month, day, h, m, s, rest]) => `${year}-${month}-${day} ${h}:${m}:${s}${rest}`)

test('what is told of a value is the value again', () => {
  const both = (type: LogicalType, value: string | null) =>
    expect(canonicalOf(toldAs(value, type), type)).toBe(value)
  fc.assert(
    fc.property(moment, fc.boolean(), fc.string(), fc.boolean(), (at, zoned, text, bool) => {
      both({ kind: 'timestamp', zoned }, zoned ? `${at}+00` : at)
      both({ kind: 'utf8' }, text)
      both({ kind: 'bool' }, bool ? 't' : 'f')
      for (const kind of ['bool', 'utf8', 'json', 'date'] as const) both({ kind }, null)
    }),
  )
  // What has no form of its own stays as it is.
  both({ kind: 'timestamp', zoned: true }, 'infinity')
  both({ kind: 'timestamp', zoned: false }, '0044-03-15 00:00:00 BC')
})

test('a list is the same list, whatever its elements say', () => {
  const type: LogicalType = { kind: 'list', of: { kind: 'utf8' } }
  fc.assert(
    fc.property(
      fc.array(fc.oneof(fc.string(), fc.constantFrom('NULL', '', '{', '"', '\\', ',', ' '))),
      set => {
        const canonical = canonicalOf(JSON.stringify(set), type)!
        expect(parseList(canonical)).toEqual(set)
        expect(JSON.parse(toldAs(canonical, type)!)).toEqual(set)
      },
    ),
  )
})

test('a moment of another zone is the same moment in UTC', () => {
  expect(canonicalOf('2026-12-01T00:30:00.123456+02:00', { kind: 'timestamp', zoned: true })).toBe(
    '2026-11-30 22:30:00.123456+00',
  )
  expect(canonicalOf('2026-12-01T00:30:00-05:30', { kind: 'timestamp', zoned: false })).toBe(
    '2026-12-01 06:00:00',
  )
})

test('no two tables have one name, and the name leads back to the table', () => {
  const word = fc.oneof(fc.constantFrom('a', 'b', 'a.b', '["a"', 'größe', ' '), fc.string({ minLength: 1 }))
  fc.assert(
    fc.property(word, word, word, word, (namespace, name, other, more) => {
      const [one, two] = [placeName({ namespace, name }), placeName({ namespace: other, name: more })]
      expect(one === two).toBe(namespace === other && name === more)
      expect(datasetOfPlace(one)).toEqual({ namespace, name })
    }),
  )
})

test('a key of several columns is said, with what to do', () => {
  const dataset: Dataset = {
    namespace: 'shop',
    name: 'prices',
    kind: 'table',
    key: ['item', 'since'],
    fields: [],
    rows: 0,
    rowsExact: true,
    bytes: 0,
  }
  expect(tableObject(dataset, [dataset], undefined)).toMatchObject({
    can: { list: false, create: false },
    closed: expect.stringContaining('several columns'),
  })
  const alone = { ...dataset, key: [dataset.key[0]!] }
  expect(tableObject(alone, [alone], { insert: true, update: false, delete: false })).toMatchObject({
    can: { list: true, create: true, change: false, remove: false },
    closed: expect.stringMatching(/^Let an administrator grant UPDATE, DELETE on /),
  })
})
