/** Kills a real server process at random moments under load; at the end both sides must be equal row by row. */
import { limits } from '../packages/connectors/tests/limits.ts'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { duckdb } from '@tide/connectors/duckdb/connector'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { startRealPostgres, type TestDatabase } from '../packages/connectors/tests/real-postgres.ts'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually, startServer, type ServerProcess } from './server.ts'

const KILLS = 20
const COPIED_ROWS = 400_000
const SEED = Number(process.env.SEED ?? Date.now() % 100_000)

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-crash-'))
let database: TestDatabase
let server: ServerProcess

beforeAll(async () => {
  database = await startRealPostgres()
})
afterAll(async () => {
  await server?.kill()
  await database?.close()
  rmSync(folder, { recursive: true, force: true })
})

/** A seeded choice (linear congruential, Numerical Recipes). */
function seeded(seed: number): () => number {
  let state = seed >>> 0
  return () => (state = (Math.imul(state, 1664525) + 1013904223) >>> 0) / 4294967296
}

async function load(parity: 0 | 1, random: () => number, going: () => boolean): Promise<number> {
  const client = await database.connect()
  let n = 0
  for (; going(); n++) {
    const id = Math.floor(random() * COPIED_ROWS * 1.2)
    // Each move goes where nobody has been: the keys of the two writers never meet there.
    const away = `${10_000_000 * (1 + n)} + ${parity}`
    try {
      await client.query('BEGIN')
      await client.query(
        `INSERT INTO readings SELECT i, clock_timestamp(), i / 3.0, 'r' || i FROM generate_series(${id}, ${id} + 40) i
         ON CONFLICT (id) DO UPDATE SET moisture = readings.moisture + 1, note = excluded.note || '${n}'`,
      )
      await client.query(`UPDATE totals SET n = n + 1 WHERE bed = ${id % 50}`)
      if (n % 3 === 0) await client.query(`DELETE FROM readings WHERE id BETWEEN ${id + 10} AND ${id + 15}`)
      if (n % 7 === 0)
        await client.query(`UPDATE readings SET id = id * 2 + ${away} WHERE id BETWEEN ${id} AND ${id + 3}`)
      await client.query(n % 11 === 0 ? 'ROLLBACK' : 'COMMIT')
    } catch (error) {
      await client.query('ROLLBACK')
      if ((error as { code: string }).code !== '40P01') throw error // a deadlock between the two writers
    }
    await new Promise(resolve => setTimeout(resolve, 4))
  }
  await client.end()
  return n
}

test(`nothing is lost or doubled by ${KILLS} kills (seed ${SEED})`, async () => {
  const random = seeded(SEED)
  const setup = await database.connect()
  await setup.query(
    `CREATE TABLE readings (id bigint PRIMARY KEY, at timestamptz NOT NULL, moisture numeric(12,2), note text)`,
  )
  await setup.query(`CREATE TABLE totals (bed int PRIMARY KEY, n int NOT NULL)`)
  await setup.query(
    `INSERT INTO readings SELECT i, clock_timestamp(), i / 7.0, 'row ' || i FROM generate_series(1, ${COPIED_ROWS}) i`,
  )
  await setup.query(`INSERT INTO totals SELECT i, 0 FROM generate_series(0, 49) i`)

  server = await startServer(folder)
  const warehouse = join(folder, 'warehouse.duckdb')
  const from = await call<{ id: string }>(server.url, 'POST', '/connections', {
    name: 'Site',
    kind: 'postgres',
    config: database.config,
  })
  const to = await call<{ id: string }>(server.url, 'POST', '/connections', {
    name: 'Warehouse',
    kind: 'duckdb',
    config: { path: warehouse },
  })
  const { id } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', {
    version: 1,
    name: 'Site to warehouse',
    from: from.id,
    to: to.id,
    targetSchema: 'site',
    tables: ['readings', 'totals'].map(name => ({ namespace: 'public', name })),
  })
  let going = true
  const loading = [load(0, seeded(SEED + 1), () => going), load(1, seeded(SEED + 2), () => going)]
  await call(server.url, 'POST', `/pipelines/${id}/start`)

  const status = () => call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
  const seen = { Copying: 0, Following: 0 }
  for (let kill = 0; kill < KILLS; kill++) {
    // The first kills come early, so that some fall into the copy; the others when it follows, however slow it all is.
    if (kill >= 6) await eventually(async () => (await status()).state === 'Following', 60, 'following')
    await new Promise(resolve => setTimeout(resolve, kill < 6 ? 150 + random() * 500 : random() * 1000))
    const { state } = await status()
    if (state === 'Copying' || state === 'Following') seen[state]++
    await server.kill()
    server = await startServer(folder)
  }
  going = false
  const transactions = (await Promise.all(loading)).reduce((sum, n) => sum + n, 0)
  await eventually(
    async () => {
      const { state, consistent, backlog, lagSeconds } = await status()
      return state === 'Following' && consistent && backlog === 0 && lagSeconds === 0
    },
    90,
    'catching up',
  )
  expect(await server.stop()).toBe(0)

  const session = await duckdb.open({ path: warehouse })
  const all = limits({ maxRows: 1_000_000, timeoutMs: 60_000, maxBytes: 2 ** 30 })
  const target = await session.query!(
    `SELECT id, epoch_us("at"), moisture, note FROM site.readings ORDER BY readings.id`,
    all,
  )
  const totals = await session.query!(`SELECT bed, n FROM site.totals ORDER BY bed`, all)
  await session.close()
  const text = { getTypeParser: () => (value: string) => value }
  const rows = async (sql: string) =>
    (await setup.query({ text: sql, rowMode: 'array', types: text as never })).rows as (string | null)[][]
  const source = await rows(
    `SELECT id, (extract(epoch FROM at) * 1000000)::bigint, moisture, note FROM readings ORDER BY id`,
  )
  const wanted = await rows(`SELECT bed, n FROM totals ORDER BY bed`)
  await setup.end()

  const join4 = (row: (string | null)[]) => row.join('\u0001')
  const there = new Map<string, string>()
  let doubled = 0
  for (const row of target.rows) {
    if (there.has(row[0]!)) doubled++
    there.set(row[0]!, join4(row))
  }
  const lost = source.filter(row => !there.has(row[0]!)).length
  const different = source.filter(row => there.has(row[0]!) && there.get(row[0]!) !== join4(row)).length
  const extra = target.rows.length - doubled - (source.length - lost)
  expect({ lost, doubled, different, extra }).toEqual({ lost: 0, doubled: 0, different: 0, extra: 0 })
  expect(totals.rows).toEqual(wanted)
  // Otherwise it would have proved little.
  expect(seen.Copying).toBeGreaterThan(0)
  expect(seen.Following).toBeGreaterThan(5)
  expect(transactions).toBeGreaterThan(500)
}, 300_000)
