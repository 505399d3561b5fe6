/**
 * Two servers on one store. A pipeline stays with the engine that keeps its source's journal: nobody else takes it while
 * that one is killed or frozen, and it goes on with it. Under load all the while; in the end both sides must be equal row
 * by row.
 */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { EngineInfo } from '@tide/core/api/engines'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { Errand } from '@tide/core/definition/errand'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { startRealPostgres, type RealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually, startEngine, startServer, type ServerProcess } from './server.ts'

const GOES_ON_WITHIN_S = 20
const ROWS = 5_000

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-engines-'))
let source: RealPostgres
let target: RealPostgres
let one: ServerProcess
let two: ServerProcess
let settings: Record<string, string>

beforeAll(async () => {
  ;[source, target] = await Promise.all([startRealPostgres(), startRealPostgres()])
  const client = await source.connect()
  await client.query('CREATE DATABASE store')
  await client.query('CREATE TABLE readings (id int PRIMARY KEY, n int NOT NULL, note text)')
  await client.query(`INSERT INTO readings SELECT i, 0, 'reading ' || i FROM generate_series(1, ${ROWS}) i`)
  await client.end()
  const { host, port, user, password } = source.config
  settings = {
    DATABASE_URL: `postgres://${user}:${encodeURIComponent(password)}@${host}:${port}/store`,
    TIDE_KEY: 'reeds and rushes',
  }
  ;[one, two] = await Promise.all([
    startServer(join(folder, 'one'), 0, { ...settings, TIDE_ENGINE: 'one' }),
    startServer(join(folder, 'two'), 0, { ...settings, TIDE_ENGINE: 'two' }),
  ])
}, 120_000)
afterAll(async () => {
  one?.child.kill('SIGCONT')
  await Promise.all([one?.kill(), two?.kill()])
  await Promise.all([source?.close(), target?.close()])
  rmSync(folder, { recursive: true, force: true })
})

const valueAt = async (database: RealPostgres, sql: string): Promise<string> => {
  const client = await database.connect()
  try {
    return String(Object.values((await client.query(sql)).rows[0])[0])
  } finally {
    await client.end()
  }
}
const epoch = () => valueAt(target, 'SELECT epoch FROM constant_tide_target.checkpoint')
const digest = (database: RealPostgres, table: string) =>
  valueAt(database, `SELECT md5(string_agg(t::text, '|' ORDER BY id)) FROM ${table} t`)

/** Resolves when what is committed from now on lands, with the seconds that took. */
async function landsAgain(mark: string): Promise<number> {
  const began = performance.now()
  const client = await source.connect()
  await client.query(`UPDATE readings SET note = '${mark}' WHERE id = 1`)
  await client.end()
  const there = () => valueAt(target, `SELECT count(*) FROM ours.readings WHERE id = 1 AND note = '${mark}'`)
  await eventually(async () => (await there()) === '1', GOES_ON_WITHIN_S, `“${mark}” at the target`)
  return (performance.now() - began) / 1000
}

async function load(going: () => boolean): Promise<void> {
  const client = await source.connect()
  for (let n = 2; going(); n++) {
    const id = 2 + ((n * 7919) % (ROWS - 60))
    await client.query('BEGIN')
    await client.query(`UPDATE readings SET n = n + 1 WHERE id BETWEEN ${id} AND ${id + 50}`)
    if (n % 5 === 0) await client.query(`DELETE FROM readings WHERE id = ${id + 3}`)
    await client.query(
      `INSERT INTO readings VALUES (${ROWS + n}, ${n}, 'new') ON CONFLICT (id) DO UPDATE SET n = excluded.n`,
    )
    await client.query('COMMIT')
    await new Promise(resolve => setTimeout(resolve, 3))
  }
  await client.end()
}

test('a pipeline stays with the engine that keeps its journal, and goes on with it; nothing is lost or doubled', async () => {
  const engines = () => call<EngineInfo[]>(two.url, 'GET', '/engines')
  await eventually(async () => (await engines()).filter(({ live }) => live).length === 2, 20, 'two engines')
  const connect = async (name: string, { config }: RealPostgres) =>
    (
      await call<{ id: string }>(one.url, 'POST', '/connections', {
        name,
        kind: 'postgres',
        config: { ...config, method: 'triggers' },
      })
    ).id
  const [from, to] = [await connect('Site', source), await connect('Copy', target)]
  const { id } = await call<PipelineStatus>(one.url, 'POST', '/pipelines', {
    version: 1,
    name: 'Readings',
    from,
    to,
    targetSchema: 'ours',
    tables: [{ namespace: 'public', name: 'readings' }],
  })
  await call(one.url, 'POST', `/pipelines/${id}/start`)
  const status = (at = two) => call<PipelineStatus>(at.url, 'GET', `/pipelines/${id}`)
  await eventually(async () => (await status(one)).state === 'Following', 30, 'the copy')
  expect((await status(one)).engine).toMatchObject({
    name: 'one',
    here: true,
    affinity: 'the journal of Site',
  })
  let going = true
  const loading = load(() => going)

  // What people ask of the other server, the engine that has the pipeline carries out.
  await eventually(async () => (await status()).lagSeconds !== null, 20, 'figures told by the other engine')
  expect(await status()).toMatchObject({
    state: 'Following',
    engine: { name: 'one', here: false, live: true },
  })
  await call(two.url, 'POST', `/pipelines/${id}/pause`)
  await eventually(async () => (await status(one)).state === 'Paused', 10, 'the pause')
  await call(two.url, 'POST', `/pipelines/${id}/continue`)
  await eventually(async () => (await status(one)).state === 'Following', 10, 'going on')
  await call(two.url, 'POST', `/pipelines/${id}/recopy`, { lanes: [0] })
  const errands = () => call<Errand[]>(two.url, 'GET', `/pipelines/${id}/errands`)
  await eventually(async () => (await errands()).every(({ state }) => state === 'done'), 20, 'the recopy')
  expect(await errands()).toMatchObject([
    { kind: 'recopy', lanes: [0], outcome: expect.stringMatching(/^Emptied/) },
  ])

  await one.kill()
  await eventually(async () => (await engines()).some(({ live }) => !live), 20, 'the engine that is gone')
  const taken = await epoch()
  await new Promise(resolve => setTimeout(resolve, 3_000))
  expect(await status()).toMatchObject({ lagSeconds: null, engine: { name: 'one', live: false } })
  expect(await epoch()).toBe(taken)
  one = await startServer(join(folder, 'one'), 0, { ...settings, TIDE_ENGINE: 'one' })
  await landsAgain('after the kill')

  one.child.kill('SIGSTOP')
  await eventually(
    async () => (await engines()).some(({ name, live }) => name === 'one' && !live),
    20,
    'the frost',
  )
  expect((await engines()).find(({ name }) => name === 'two')).toMatchObject({ live: true, pipelines: 0 })
  one.child.kill('SIGCONT')
  await landsAgain('after the thaw')

  going = false
  await loading
  await landsAgain('the last')
  const expected = await digest(source, 'readings')
  await eventually(async () => (await digest(target, 'ours.readings')) === expected, 20, 'equality')
  expect(await status(one)).toMatchObject({ state: 'Following', reason: null })
}, 180_000)

test('an engine alone wants a shared store, and a shared store wants a key', async () => {
  await expect(startEngine(join(folder, 'three'), {})).rejects.toThrow('Set DATABASE_URL')
  const { DATABASE_URL } = settings
  await expect(startEngine(join(folder, 'three'), { DATABASE_URL: DATABASE_URL! })).rejects.toThrow(
    'Set TIDE_KEY to a passphrase',
  )
})
