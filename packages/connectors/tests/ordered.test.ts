/** All rows in the order of their keys, and single ones by their keys: the same at every system. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import { csvRows } from '@tide/core/records/csv-rows'
import type { LogicalType } from '@tide/core/records/types'
import type { Row } from '@tide/core/records/value'
import { compareText } from '@tide/core/scope/order'
import { DuckDBInstance } from '@duckdb/node-api'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { KeyedTable } from '../src/contract/records.ts'
import type { Session } from '../src/contract/session.ts'
import { duckdb } from '../src/duckdb/connector.ts'
import { mariadb } from '../src/mariadb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { startRealMariadb, type RealMariadb } from './real-mariadb.ts'
import { startRealPostgres, type RealPostgres } from './real-postgres.ts'

const LARGE_ROWS = 40_000
const KEYS = ['', 'a', 'A', 'ä', 'z', '🌱', '￿', 'a b', '"', ',', '\n', '\\', "'", '10', '9', ' a']
const folder = mkdtempSync(join(tmpdir(), 'constant-tide-ordered-'))
/** Texts that have quotes everywhere, as JSON has, of lengths up to a large one. */
const PAGES = [10, 511, 512, 513, 300_000].map(times => '"é"'.repeat(times))
let server: RealPostgres
let maria: RealMariadb
const sessions: Record<string, Session> = {}

const rowsSql = (literal: (text: string) => string) =>
  KEYS.map((key, i) => `(${literal(key)}, ${i % 3 === 0 ? 'NULL' : literal(`note ${key}`)}, ${i - 8})`).join(
    ', ',
  )
const doubled = (text: string) => `'${text.replaceAll("'", "''")}'`

beforeAll(async () => {
  ;[server, maria] = await Promise.all([startRealPostgres(), startRealMariadb()])
  const client = await server.connect()
  await client.query(`CREATE SCHEMA main; CREATE TABLE main.words (word text, note text, n bigint, PRIMARY KEY (word));
    INSERT INTO main.words VALUES ${rowsSql(doubled)};
    CREATE TABLE main.large AS SELECT i::bigint AS n, repeat('x', 1000) AS note FROM generate_series(1, ${LARGE_ROWS}) i`)
  await client.query(`CREATE TABLE main.pages (n bigint, note text)`)
  for (const [i, page] of PAGES.entries())
    await client.query('INSERT INTO main.pages VALUES ($1, $2)', [i, page])
  await client.end()
  const session = await maria.connect()
  await session.run('CREATE DATABASE main')
  await session.run('USE main')
  // An order that knows no case, and no accents.
  await session.run(
    'CREATE TABLE words (word varchar(20) COLLATE utf8mb4_nopad_bin PRIMARY KEY, note text COLLATE utf8mb4_general_ci, n bigint)',
  )
  await session.run(
    `INSERT INTO words VALUES ${rowsSql(text => `_utf8mb4 x'${Buffer.from(text).toString('hex')}'`)}`,
  )
  await session.run('CREATE TABLE large (n bigint, note longtext)')
  await session.run(`INSERT INTO large SELECT seq, repeat('x', 1000) FROM seq_1_to_${LARGE_ROWS}`)
  await session.run('CREATE TABLE pages (n bigint, note longtext CHARACTER SET utf8mb4)')
  for (const [i, page] of PAGES.entries()) await session.run(`INSERT INTO pages VALUES (${i}, '${page}')`)
  await session.close()
  const path = join(folder, 'w.duckdb')
  const instance = await DuckDBInstance.create(path)
  const connection = await instance.connect()
  await connection.run(`CREATE TABLE words (word VARCHAR, note VARCHAR, n BIGINT)`)
  await connection.run(`INSERT INTO words VALUES ${rowsSql(doubled)}`)
  await connection.run(
    `CREATE TABLE large AS SELECT range + 1 AS n, repeat('x', 1000) AS note FROM range(${LARGE_ROWS})`,
  )
  await connection.run('CREATE TABLE pages (n BIGINT, note VARCHAR)')
  for (const [i, page] of PAGES.entries())
    await connection.run('INSERT INTO pages VALUES ($n, $page)', { n: i, page })
  connection.disconnectSync()
  instance.closeSync()
  sessions.PostgreSQL = await postgres.open({ ...server.config, method: 'triggers' })
  sessions.MariaDB = await mariadb.open({ ...maria.config })
  sessions.DuckDB = await duckdb.open({ path })
}, 120_000)
afterAll(async () => {
  for (const session of Object.values(sessions)) await session.close()
  await Promise.all([server?.close(), maria?.close()])
  rmSync(folder, { recursive: true, force: true })
})

describe.each([
  ['PostgreSQL', ['text', 'bigint']],
  ['MariaDB', ['longtext', 'bigint(20)']],
  ['DuckDB', ['VARCHAR', 'BIGINT']],
] as const)('%s', (name, [text, number]) => {
  const column = (name: string, type: LogicalType, nativeType: string) => ({ name, type, nativeType })
  const note = column('note', { kind: 'utf8' }, text)
  const n = column('n', { kind: 'int', bits: 64, signed: true }, number)
  const words: KeyedTable = {
    dataset: { namespace: 'main', name: 'words' },
    columns: [column('word', { kind: 'utf8' }, text), note, n],
    key: ['word'],
  }
  const large: KeyedTable = { dataset: { namespace: 'main', name: 'large' }, columns: [n, note], key: ['n'] }
  const all = KEYS.map((key, i): Row => [key, i % 3 === 0 ? null : `note ${key}`, String(i - 8)])
  const limits = (signal = new AbortController().signal) => ({ timeoutMs: 60_000, signal })

  test('texts in the order of their bytes, numbers in that of their values', async () => {
    const read = async (key: string, order: 'text' | 'number') => {
      const parts: Uint8Array[] = []
      const table = { ...words, key: [key], order: [order], quoted: [true, true, false] }
      for await (const part of sessions[name]!.ordered!(table, limits())) parts.push(part)
      return csvRows(Buffer.concat(parts))
    }
    expect(await read('word', 'text')).toEqual([...all].sort((a, b) => compareText(a[0]!, b[0]!)))
    expect(await read('n', 'number')).toEqual(all)
  })

  test('quotes cost no more in a long text than in many short ones', async () => {
    const pages: KeyedTable = {
      dataset: { namespace: 'main', name: 'pages' },
      columns: [n, note],
      key: ['n'],
    }
    const parts: Uint8Array[] = []
    const table = { ...pages, order: ['number' as const], quoted: [false, true] }
    for await (const part of sessions[name]!.ordered!(table, { ...limits(), timeoutMs: 20_000 }))
      parts.push(part)
    expect(csvRows(Buffer.concat(parts)).map(([, page]) => PAGES.indexOf(page!))).toEqual([0, 1, 2, 3, 4])
  }, 30_000)

  test('only those that are asked for, also by a value that is null', async () => {
    const some = async (only: KeyedTable['only']) => {
      const parts: Uint8Array[] = []
      const table = { ...words, order: ['text' as const], quoted: [true, true, true], only }
      for await (const part of sessions[name]!.ordered!(table, limits())) parts.push(part)
      return csvRows(Buffer.concat(parts)).map(([word]) => word)
    }
    expect(await some([{ column: 'word', is: '"' }])).toEqual(['"'])
    expect(await some([{ column: 'note', is: null }])).toEqual(
      KEYS.filter((_, i) => i % 3 === 0).sort(compareText),
    )
  })

  test('rows by their keys; what is no value of the key’s type is that of none', async () => {
    const { rows } = sessions[name]!
    const found = await rows!(words, [...KEYS.map(key => [key]), ['nobody'], ["' OR 1=1 --"]])
    expect([...found].sort((a, b) => Number(a[2]) - Number(b[2]))).toEqual(all)
    const byNumber = await rows!({ ...words, key: ['n'] }, [
      ['-8'],
      ['no number'],
      ['7'],
      ['99999999999999999999999'],
    ])
    expect(byNumber.map(row => row[2]).sort()).toEqual(['-8', '7'])
    expect(await rows!(words, [])).toEqual([])
  })

  test.each([0, 2])(
    'it ends when nobody waits any more, after %i parts',
    async taken => {
      const over = new AbortController()
      const table = { ...large, order: ['number' as const], quoted: [false, true] }
      const reading = sessions[name]!.ordered!(table, limits(over.signal))
      for (let i = 0; i < taken; i++) await reading.next()
      const next = reading.next().catch(() => {})
      over.abort()
      const end = (async () => {
        await next
        for (;;) if ((await reading.next()).done) return
      })().catch(() => {})
      const late = new Promise(resolve => setTimeout(resolve, 8_000, 'late'))
      expect(await Promise.race([end, late])).toBeUndefined()
      await reading.return(undefined)
    },
    20_000,
  )
})
