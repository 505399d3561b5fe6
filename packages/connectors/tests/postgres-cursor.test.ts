/** Following by a column that says when a row was last written: what it sees, what it must not miss, and what it says. */
import { limits } from './limits.ts'
import { afterAll, afterEach, beforeAll, beforeEach, expect, test } from '@jest/globals'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type pg from 'pg'
import type { Session } from '../src/contract/session.ts'
import { duckdb } from '../src/duckdb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { comparePositions } from '@tide/core/position/order'
import { setTimeout as sleep } from 'node:timers/promises'
import { begin, copyAll, followOnce, followToHead, openFrom, type Carried, type From } from './landing.ts'
import { followUntil, RecordingSink } from './recording-sink.ts'
import { startRealPostgres, type RealPostgres } from './real-postgres.ts'

const TABLES = [
  { namespace: 'public', name: 'orders' },
  { namespace: 'public', name: 'visits' },
]

let database: RealPostgres
let client: pg.Client
let folder: string
let from: From
let to: Session
let carried: Carried

const config = () => ({
  ...database.config,
  method: 'cursor',
  cursorColumn: 'updated_at',
  cursorEverySeconds: 1,
  cursorSettleSeconds: 0,
})

beforeAll(async () => {
  database = await startRealPostgres()
})
afterAll(async () => {
  await database?.close()
})
beforeEach(async () => {
  folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  client = await database.connect()
  await client.query(`SET timezone = 'Pacific/Auckland'`)
  await client.query(
    `CREATE TABLE orders (site text, id int, n int, tags text[], updated_at timestamptz DEFAULT now(), PRIMARY KEY (site, id))`,
  )
  await client.query(`CREATE TABLE visits (id int PRIMARY KEY, updated_at timestamp)`)
  await client.query(`CREATE TABLE bare (id int PRIMARY KEY, updated_at date)`)
  await client.query(`INSERT INTO orders SELECT 's', i, 0, '{a,NULL}' FROM generate_series(1, 50) i`)
  await client.query(`INSERT INTO visits VALUES (1, now() AT TIME ZONE 'UTC')`)
  from = await openFrom(() => postgres.open(config()))
  to = await duckdb.open({ path: join(folder, 'warehouse.duckdb') })
  carried = await begin(from, to, TABLES, 'main')
  await copyAll(from, to, carried)
})
afterEach(async () => {
  await client.query('ROLLBACK')
  await client.query('DROP TABLE IF EXISTS orders, visits, bare')
  await client.end()
  await from.close()
  await to.close()
  rmSync(folder, { recursive: true, force: true })
})

const there = async (sql: string) => (await to.query!(sql, limits({ maxRows: 5000, timeoutMs: 5000 }))).rows
const orders = () =>
  there('SELECT id::VARCHAR, n::VARCHAR, tags::VARCHAR FROM main.orders ORDER BY orders.id')

test('rows written later land, however many have one time and however small the batches', async () => {
  await client.query('BEGIN')
  await client.query(`UPDATE orders SET n = 1, tags = '{b}', updated_at = now() WHERE id <= 30`)
  await client.query(`INSERT INTO orders SELECT 's', i, 2 FROM generate_series(51, 60) i`)
  await client.query(`UPDATE visits SET updated_at = now() AT TIME ZONE 'UTC'`)
  await client.query('COMMIT')
  const { events } = await followToHead(from, to, carried, 7)
  expect(events).toBeGreaterThanOrEqual(41)
  expect(events).toBeLessThan(41 + 52) // what was copied may come once more
  const expected = await client.query({
    text: `SELECT id::text, n::text, '[' || array_to_string(tags, ', ', 'NULL') || ']' FROM orders ORDER BY orders.id`,
    rowMode: 'array',
  })
  expect(await orders()).toEqual(expected.rows)
  expect((await followToHead(from, to, carried)).events).toBe(0)
})

test('a transaction that commits late is waited for, and its rows are not missed', async () => {
  const slow = await database.connect()
  await slow.query('BEGIN')
  await slow.query('SELECT now()') // its time is set, and it has written nothing yet
  await client.query(`UPDATE orders SET n = 5, updated_at = now() WHERE id = 1`)
  const { newest } = await followOnce(from, to, carried)
  expect(newest === null || newest < (await slow.query('SELECT now() AS at')).rows[0].at.toISOString()).toBe(
    true,
  )
  await slow.query(`UPDATE orders SET n = 6, updated_at = now() WHERE id = 2`)
  await slow.query('COMMIT')
  await slow.end()
  await followToHead(from, to, carried)
  expect((await orders()).slice(0, 2).map(([id, n]) => [id, n])).toEqual([
    ['1', '5'],
    ['2', '6'],
  ])
})

test('it goes on in the middle of a round with another session, and stops at a time that was given out', async () => {
  const log = from.session.log!
  const start = await log.open('reader', TABLES)
  await client.query(`UPDATE orders SET n = 9, updated_at = clock_timestamp()`)
  await sleep(5)
  const { position } = await log.extend('reader', TABLES)
  await client.query(`UPDATE orders SET n = 10, updated_at = clock_timestamp() WHERE id = 7`)
  const reading = { from: start, tables: TABLES, stops: [position.at] }
  const sink = new RecordingSink(start.at)
  await followUntil(log, 'reader', reading, sink, () => sink.rows.some(([, , n]) => n === '10'))
  const before = sink.transactions.filter(
    ({ end }) => comparePositions({ ...start, at: end }, position) === 'before',
  )
  expect(before.flatMap(({ events }) => events.map(({ after }) => after![2]))).not.toContain('10')
  const seen = (sink: RecordingSink) => sink.rows.map(([, id, n]) => `${id} ${n}`)
  expect(new Set(seen(sink)).size).toBe(50)
  const half = sink.transactions[20]!.end
  // Rows that were written within one microsecond come together.
  const told = sink.transactions.slice(0, 21).flatMap(({ events }) => events)
  const other = await postgres.open(config())
  const rest = new RecordingSink(half)
  await followUntil(other.log!, 'reader', { ...reading, from: { ...start, at: half } }, rest, () =>
    rest.rows.some(([, , n]) => n === '10'),
  )
  expect(seen(rest)).toEqual(seen(sink).slice(told.length))
  await other.close()
})

test('changed columns stop it, with the table and the column', async () => {
  await client.query(
    `ALTER TABLE visits ADD COLUMN who text; UPDATE visits SET updated_at = now() AT TIME ZONE 'UTC'`,
  )
  await expect(followToHead(from, to, carried)).rejects.toMatchObject({
    kind: 'structural',
    message: 'The columns of public.visits were changed at the source: who is new.',
  })
})

test('while it follows, it looks at its own tables alone, and says when one is not there any more', async () => {
  const session = await postgres.open(config())
  const other = await database.connect()
  try {
    // Whoever reads this table now waits until it is let go.
    await other.query('BEGIN')
    await other.query('LOCK TABLE bare IN ACCESS EXCLUSIVE MODE')
    const looked = session.log!.inspectTables('reader', TABLES).then(() => 'looked')
    expect(await Promise.race([looked, sleep(3000, 'waits')])).toBe('looked')
  } finally {
    await other.query('ROLLBACK')
    await other.end()
  }
  const [orders, visits] = TABLES
  await client.query('ALTER TABLE orders DROP CONSTRAINT orders_pkey')
  await expect(session.log!.inspectTables('reader', [orders!])).rejects.toThrow('it has no key')
  await client.query('ALTER TABLE visits ALTER updated_at TYPE date')
  await expect(session.log!.inspectTables('reader', [visits!])).rejects.toThrow('date, not a timestamp')
  await client.query('DROP TABLE visits')
  await expect(session.log!.inspectTables('reader', [visits!])).rejects.toThrow('not there any more')
  await session.close()
})

test('what it cannot follow or see is said before the start, and in the checks', async () => {
  const { datasets } = await from.session.catalogue()
  const by = (name: string) => datasets.find(one => one.name === name)!
  expect(by('bare').notFollowed).toBe('its updated_at is date, not a timestamp')
  expect(by('orders').unseen).toContain('deletions, changed keys')
  const items = []
  for await (const item of postgres.check(config())) items.push(item)
  expect(items.map(({ what, result }) => [what, result])).toEqual([
    ['Reach and sign in', 'ok'],
    ['Reading account', 'warning'],
    ['Version', 'ok'],
    ['Read tables', 'ok'],
    ['Tables with updated_at', 'ok'],
    ['Indexes on updated_at', 'warning'],
    ['Wait for open transactions', 'ok'],
    ['What it cannot see', 'warning'],
  ])
  const { paste } = items.find(({ what }) => what.startsWith('Indexes'))!
  for (const statement of paste!.split('\n')) await client.query(statement)
  const again = []
  for await (const item of postgres.check(config())) again.push(item)
  expect(again.find(({ what }) => what.startsWith('Indexes'))!.result).toBe('ok')
})
