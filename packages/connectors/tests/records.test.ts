/** What others write into files comes out as it went in, each record with the line that it begins in. */
import { afterAll, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { gzipSync } from 'node:zlib'
import type { FileRecord } from '../src/lake/files/file-record.ts'
import { readRecords, type TextFormat } from '../src/lake/files/records.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-records-'))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

async function read(text: string, format: TextFormat, zipped = false): Promise<FileRecord[]> {
  const file = join(folder, 'file')
  writeFileSync(file, zipped ? gzipSync(text) : text)
  const records: FileRecord[] = []
  for await (const record of readRecords(file, format, zipped)) records.push(record)
  return records
}

const value = fc.oneof(
  fc.constantFrom(
    null,
    '',
    '"',
    '\n',
    '\r\n',
    ',',
    ';',
    '\t',
    'NULL',
    '\\',
    '\\.',
    ' ',
    '\u{FEFF}',
    '🌱',
    'größer',
  ),
  fc.string({ unit: 'binary', maxLength: 6 }).filter(text => !text.includes('\0')),
)

test('CSV, with any delimiter and quotes where they must be', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.array(value, { minLength: 3, maxLength: 3 }), { maxLength: 8 }),
      fc.constantFrom(',', ';', '\t', '|'),
      fc.constantFrom('\n', '\r\n'),
      fc.boolean(),
      async (rows, delimiter, newline, zipped) => {
        const field = (one: string | null) =>
          one === null
            ? ''
            : one === '' || /["\r\n\\\s]/.test(one) || one.includes(delimiter)
              ? `"${one.replaceAll('"', '""')}"`
              : one
        // A record of nothing but nulls is an empty line to nobody, since it has its delimiters.
        const lines = [['a', 'b', 'c'], ...rows].map(row => row.map(field).join(delimiter) + newline)
        const found = await read(lines.join(''), 'csv', zipped)
        expect(found.map(({ values }) => values)).toEqual(rows)
        expect(found.every(({ problem }) => problem === null)).toBe(true)
        let line = 1
        const begins = lines.map(text => {
          const at = line
          line += text.split(/\r\n|\n|\r/).length - 1
          return at
        })
        expect(found.map(record => record.line)).toEqual(begins.slice(1))
      },
    ),
    { numRuns: 200 },
  )
}, 60_000)

test('JSON Lines keep all digits and tell absent from null', async () => {
  const object = fc.dictionary(
    fc.string({ minLength: 1, maxLength: 4 }).filter(name => name !== '__proto__'),
    fc.oneof(fc.string(), fc.boolean(), fc.constant(null), fc.bigInt().map(String)),
    { maxKeys: 4 },
  )
  await fc.assert(
    fc.asyncProperty(fc.array(object, { maxLength: 6 }), async objects => {
      const isNumber = (one: unknown) => typeof one === 'string' && /^-?\d+$/.test(one)
      const lines = objects.map(one => {
        const fields = Object.entries(one).map(
          ([name, value]) =>
            `${JSON.stringify(name)}: ${isNumber(value) ? String(value) : JSON.stringify(value)}`,
        )
        return `{${fields.join(', ')}}\n`
      })
      const found = await read(lines.join(''), 'json lines')
      expect(found.map(({ line }) => line)).toEqual(objects.map((_, i) => i + 1))
      for (const [i, one] of objects.entries()) {
        const told = Object.fromEntries(found[i]!.names.map((name, at) => [name, found[i]!.values[at]]))
        const expected = Object.entries(one).map(([name, value]) => [
          name,
          value === null ? null : typeof value === 'boolean' ? String(value) : value,
        ])
        expect(told).toEqual(Object.fromEntries(expected))
      }
    }),
    { numRuns: 200 },
  )
}, 60_000)

test('what cannot be read is told by its line, and what stands around it is read', async () => {
  const problems = (records: FileRecord[]) =>
    records.flatMap(({ line, problem }) => (problem === null ? [] : [`${line}: ${problem}`]))
  const csv = await read('a,b\n1,2\n3\n4,5,6\n"x"y,7\n8,9\n', 'csv')
  expect(csv.filter(({ problem }) => problem === null).map(({ values }) => values)).toEqual([
    ['1', '2'],
    ['8', '9'],
  ])
  expect(problems(csv)).toEqual([
    '3: it has 1 fields, and the first line 2',
    '4: it has 3 fields, and the first line 2',
    '5: something stands behind a quote that ends',
  ])
  const json = await read('{"a": 1}\n{"a": \n[1]\n7\n{"a": 2}\n', 'json lines')
  expect(problems(json).map(text => text.slice(0, 16))).toEqual([
    '2: it is no JSON',
    '3: it is no JSON',
    '4: it is no JSON',
  ])
  expect(json.filter(({ problem }) => problem === null).map(({ values }) => values)).toEqual([['1'], ['2']])
})
