import { expect, test } from '@jest/globals'
import { csvLine } from '@tide/core/records/csv'
import fc from 'fast-check'
import { float32Text } from '../src/mariadb/sql.ts'
import { loadDataLines } from '../src/mariadb/target/csv.ts'

/** Reads what `LOAD DATA` reads by default. */
function read(text: string): (string | null)[][] {
  const rows: (string | null)[][] = []
  const row: (string | null)[] = []
  let field = ''
  for (let i = 0; i < text.length; i++) {
    if (text[i] === '\\') field += text[++i] === 'N' ? '\0null' : text[i]
    else if (text[i] === '\t' || text[i] === '\n') {
      row.push(field === '\0null' ? null : field)
      field = ''
      if (text[i] === '\n') rows.push(row.splice(0))
    } else field += text[i]
  }
  return rows
}

test('CSV becomes what LOAD DATA reads, nulls and empty texts apart, however it comes in parts', async () => {
  const special = fc.constantFrom('a', '"', '\\', '\t', '\n', ',', 'N', 'ü', '')
  const value = fc.option(fc.string({ unit: special }), { nil: null })
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.tuple(value, value), { minLength: 1 }),
      fc.integer({ min: 1, max: 9 }),
      async (rows, size) => {
        const csv = Buffer.from(rows.map(csvLine).join(''))
        const parts = Array.from({ length: Math.ceil(csv.length / size) }, (_, i) =>
          csv.subarray(i * size, (i + 1) * size),
        )
        const out: Buffer[] = []
        for await (const part of loadDataLines(parts)) out.push(Buffer.from(part))
        expect(read(Buffer.concat(out).toString())).toEqual(rows)
      },
    ),
  )
})

test('rows of nothing but nulls grow threefold and are all there', async () => {
  const rows = Array.from({ length: 50 }, () => [null, null, null])
  const out: Buffer[] = []
  for await (const part of loadDataLines([Buffer.from(rows.map(csvLine).join(''))])) out.push(part)
  expect(read(Buffer.concat(out).toString())).toEqual(rows)
})

test('a 32-bit float is printed as the shortest text that means it', () => {
  expect(float32Text(Math.fround(1.1))).toBe('1.1')
  fc.assert(
    fc.property(
      fc.float({ noNaN: true, noDefaultInfinity: true }),
      value => Math.fround(Number(float32Text(value))) === value,
    ),
  )
})
