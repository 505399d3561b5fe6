/** Our reading and writing of text forms, held against the real systems for arbitrary values. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { DuckDBInstance, type DuckDBConnection } from '@duckdb/node-api'
import { csvLine } from '@tide/core/records/csv'
import type { Column } from '@tide/core/records/column'
import fc from 'fast-check'
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type pg from 'pg'
import { LineMeter, RecordTooLong } from '../src/duckdb/line-meter.ts'
import { readCsv } from '../src/duckdb/sql.ts'
import { depthOf, listAsJson, listLiteral, parseList } from '@tide/core/records/list'
import { ident, literal, parseComposite } from '../src/postgres/text.ts'
import { startRealPostgres, type TestDatabase } from './real-postgres.ts'

/** Any text that databases hold: no NUL, no half characters; with a liking for what is special somewhere. */
const special = fc.constantFrom(
  '',
  '"',
  "'",
  '\\',
  ',',
  '\n',
  '\r\n',
  '{',
  '}',
  '(',
  ')',
  'NULL',
  'null',
  '\\N',
  '\\.',
  ' ',
  '\t',
  '🌱',
  'é',
)
const text = fc
  .array(fc.oneof(special, fc.string({ unit: 'grapheme', maxLength: 3 })), { maxLength: 6 })
  .map(parts => parts.join('').replaceAll('\0', ''))
  .filter(text => !/[\ud800-\udfff]/u.test(text))
const value = fc.option(text, { nil: null, freq: 4 })

describe('text forms', () => {
  let database: TestDatabase
  let client: pg.Client
  let duck: DuckDBConnection
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-texts-'))
  beforeAll(async () => {
    database = await startRealPostgres()
    client = await database.connect()
    duck = await (await DuckDBInstance.create()).connect()
  })
  afterAll(async () => {
    await client?.end()
    await database?.close()
    duck?.disconnectSync()
    rmSync(folder, { recursive: true, force: true })
  })

  test('composites as PostgreSQL prints them', async () => {
    await client.query('CREATE TABLE row3 (a text, b text, c text)')
    await fc.assert(
      fc.asyncProperty(fc.tuple(value, value, value), async row => {
        const { rows } = await client.query('SELECT row($1::text, $2::text, $3::text)::row3::text AS t', row)
        expect(parseComposite(rows[0].t)).toEqual(row)
      }),
      { numRuns: 300 },
    )
  })

  test('arrays as PostgreSQL prints them, nested ones too', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(value, { minLength: 1, maxLength: 5 }), async items => {
        const { rows } = await client.query(
          'SELECT $1::text[]::text AS flat, ARRAY[$1::text[], $1::text[]]::text AS nested',
          [items],
        )
        expect(parseList(rows[0].flat)).toEqual(items)
        expect(parseList(rows[0].nested)).toEqual([items, items])
        // What earlier versions kept of it means the same list.
        const again = await client.query('SELECT $1::text[]::text AS t', [
          listLiteral(listAsJson(rows[0].nested)),
        ])
        expect(again.rows[0].t).toBe(rows[0].nested)
      }),
      { numRuns: 300 },
    )
    expect(parseList('[0:1]={1,2}')).toEqual(['1', '2'])
    expect(parseList('[-1:0][2:2]={{1},{NULL}}')).toEqual([['1'], [null]])
    expect(parseList('{(1,1),(0,0);(2,2),(0,0)}', ';')).toEqual(['(1,1),(0,0)', '(2,2),(0,0)'])
    expect([parseList('{}'), depthOf(parseList('{}')), depthOf(parseList('{{a},{b}}'))]).toEqual([[], 0, 2])
    expect(listLiteral('[null,["a"]]')).toBe('{NULL,{"a"}}')
  })

  test('literals and identifiers say what they should', async () => {
    await fc.assert(
      fc.asyncProperty(
        text,
        text.filter(name => name !== '' && Buffer.byteLength(name) < 60),
        async (content, name) => {
          const { rows } = await client.query(`SELECT ${literal(content)} AS ${ident(name)}`)
          expect(rows).toEqual([{ [name]: content }])
        },
      ),
      { numRuns: 300 },
    )
  })

  test('CSV lines as DuckDB reads them, nulls and empty texts apart', async () => {
    const column = (name: string): Column => ({
      name,
      type: { kind: 'utf8' },
      nativeType: 'VARCHAR',
      nullable: true,
    })
    const columns = ['id', 'b', 'c'].map(column)
    await fc.assert(
      fc.asyncProperty(fc.array(fc.tuple(value, value), { minLength: 1, maxLength: 8 }), async pairs => {
        const rows = pairs.map((pair, i) => [String(i), ...pair])
        const csv = rows.map(csvLine).join('')
        const file = join(folder, 'rows.csv')
        writeFileSync(file, csv)
        const bytes = Buffer.byteLength(csv)
        const { read, select } = readCsv({ file, bytes, longestLine: bytes }, columns)
        const result = await duck.runAndReadAll(`SELECT ${select.join(', ')} FROM ${read} ORDER BY c0::INT`)
        expect(result.getRows()).toEqual(rows)
      }),
      { numRuns: 200 },
    )
  })
})

test('the longest CSV record is known, however it comes in parts', () => {
  fc.assert(
    fc.property(
      fc.array(fc.array(fc.string({ unit: fc.constantFrom('a', '"', '\n', ',', 'ü') })), { minLength: 1 }),
      fc.integer({ min: 1, max: 9 }),
      (rows, size) => {
        const lines = rows.map(row => Buffer.from(csvLine(row)))
        const whole = Buffer.concat(lines)
        const meter = new LineMeter()
        for (let at = 0; at < whole.length; at += size) meter.take(whole.subarray(at, at + size))
        expect([meter.bytes, meter.longest]).toEqual([
          whole.length,
          Math.max(...lines.map(line => line.length)),
        ])
      },
    ),
  )
})

test('a record that is too long is refused, with the fields in front of what is too long', () => {
  const field = fc.string({ unit: fc.constantFrom('a', '"', '\n', ',') })
  fc.assert(
    fc.property(
      fc.array(fc.array(field, { minLength: 1, maxLength: 4 })),
      fc.array(field, { maxLength: 3 }),
      fc.integer({ min: 1, max: 9 }),
      (rows, before, size) => {
        const most = Math.max(60, ...rows.map(row => csvLine(row).length))
        const whole = Buffer.from([...rows, [...before, 'x'.repeat(most)]].map(csvLine).join(''))
        const meter = new LineMeter(most)
        let refused: unknown
        try {
          for (let at = 0; at < whole.length; at += size) meter.take(whole.subarray(at, at + size))
        } catch (error) {
          refused = error
        }
        expect(refused).toBeInstanceOf(RecordTooLong)
        // Of what had come by then: the first bytes of the record.
        const { fields } = refused as RecordTooLong
        expect(before.slice(0, fields.length)).toEqual(fields)
      },
    ),
  )
})
