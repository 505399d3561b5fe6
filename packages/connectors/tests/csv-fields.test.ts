import { expect, test } from '@jest/globals'
import { csvLine } from '@tide/core/records/csv'
import fc from 'fast-check'
import { lastFields, turnFields } from '../src/csv-fields.ts'

const value = fc.option(
  fc.oneof(
    fc.constantFrom('', '"', ',', '\n', '\r\n', '""', '"\n"', 'ä', '🌱', '\\.', '{1,2}'),
    fc.string({ unit: 'grapheme' }),
  ),
)
/** Rows of three fields, and where their CSV is cut into parts. */
const csv = fc.record({
  rows: fc.array(fc.tuple(value, value, value), { minLength: 1, maxLength: 12 }),
  cuts: fc.array(fc.nat(200), { maxLength: 8 }),
})

function partsOf(rows: readonly (string | null)[][], cuts: readonly number[]): Buffer[] {
  const bytes = Buffer.from(rows.map(csvLine).join(''))
  const places = [0, ...cuts.map(cut => cut % (bytes.length + 1)), bytes.length].sort((a, b) => a - b)
  return places.slice(1).map((end, i) => bytes.subarray(places[i], end))
}

test('the last line is found wherever the parts are cut, and whatever its fields hold', () => {
  fc.assert(
    fc.property(csv, ({ rows, cuts }) => {
      expect(lastFields(partsOf(rows, cuts))).toEqual(rows.at(-1))
    }),
    { numRuns: 2000 },
  )
  expect(lastFields([])).toEqual([])
})

test('fields of one column are turned, nulls and the others stay as they are', async () => {
  await fc.assert(
    fc.asyncProperty(csv, async ({ rows, cuts }) => {
      const parts: Buffer[] = []
      const turn = (text: string) => `<${text}">`
      for await (const part of turnFields(partsOf(rows, cuts), [undefined, turn])) parts.push(part)
      const turned = rows.map(([a, b, c]) => [a!, b === null ? null : turn(b), c!])
      expect(Buffer.concat(parts).toString()).toBe(turned.map(csvLine).join(''))
    }),
    { numRuns: 2000 },
  )
})
