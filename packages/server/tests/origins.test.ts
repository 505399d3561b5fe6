/**
 * Three sources of one shape go into one set of tables, whatever system that is in: two PostgreSQL databases and a MariaDB,
 * with the same keys in each. Under changes at all three, one is recopied, one stops and is started again, one truncates;
 * in the end the target holds of each just what it has.
 */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { ConnectionInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import type { Definition } from '@tide/core/definition/definition'
import { mkdtempSync, rmSync } from 'node:fs'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import pg from 'pg'
import { startRealMariadb, type RealMariadb } from '../../connectors/tests/real-mariadb.ts'
import { startRealPostgres, type RealPostgres } from '../../connectors/tests/real-postgres.ts'
import { eventually } from '../../../e2e/server.ts'
import { createApp } from '../src/app.ts'
import { openDataFolder } from '../src/data-folder.ts'
import { openServices } from '../src/process.ts'
import type { Services } from '../src/services.ts'
import { call } from '../../stand-ins/src/api-call.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-origins-'))
let postgres: RealPostgres
let mariadb: RealMariadb
let services: Services
let server: Server
let url: string
const ids: Record<string, string> = {}

/** Runs statements at a source. */
const at: Record<string, (sql: string) => Promise<void>> = {
  alder: sql => inPostgres('alder', sql),
  bracken: sql => inPostgres('bracken', sql),
  cotter: async sql => {
    const session = await mariadb.connect()
    for (const statement of sql.split(';')) if (statement.trim()) await session.run(statement)
    await session.close()
  },
}
const SITES = Object.keys(at)

async function inPostgres(database: string, sql: string): Promise<void> {
  const client = new pg.Client({ ...postgres.config, database })
  await client.connect()
  await client.query(sql)
  await client.end()
}

const ask = async (connection: string, sql: string): Promise<string[][]> =>
  (await call<{ rows: string[][] }>(url, 'POST', '/query', { connection: ids[connection], sql })).rows

beforeAll(async () => {
  ;[postgres, mariadb] = await Promise.all([startRealPostgres(), startRealMariadb()])
  const client = await postgres.connect()
  for (const database of ['alder', 'bracken', 'gathered']) await client.query(`CREATE DATABASE ${database}`)
  await client.end()
  services = await openServices(await openDataFolder(join(folder, 'data'), 'here'))
  server = createServer(createApp(services).callback())
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve))
  url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const connect = async (name: string, kind: string, config: object) => {
    ids[name] = (await call<ConnectionInfo>(url, 'POST', '/connections', { name, kind, config })).id
  }
  await connect('alder', 'postgres', { ...postgres.config, database: 'alder' })
  await connect('bracken', 'postgres', { ...postgres.config, database: 'bracken' })
  await connect('cotter', 'mariadb', mariadb.config)
  await connect('into duckdb', 'duckdb', { path: join(folder, 'gathered.duckdb'), fold: 'upper' })
  await connect('into postgres', 'postgres', { ...postgres.config, database: 'gathered' })
  await connect('into mariadb', 'mariadb', { ...mariadb.config, database: 'gathered' })
  await at.cotter!('CREATE DATABASE gathered')
}, 120_000)
afterAll(async () => {
  server?.close()
  await services?.close()
  await Promise.all([postgres?.close(), mariadb?.close()])
  rmSync(folder, { recursive: true, force: true })
})

const definition = (to: string): Definition => ({
  version: 2,
  shape: 'replicate',
  name: `all ${to}`,
  from: SITES.map(tag => ({ connection: ids[tag]!, tag })),
  to: ids[to]!,
  targetSchema: 'together',
  tables: [],
  patterns: [{ take: 'in', like: 'site.*' }],
  columns: [{ like: 'site.beds.mail', does: { mask: 'hash' } }],
})

/** What each site has, and what the target has of each, as `origin id n note`. */
async function bothSides(to: string): Promise<{ there: string[]; here: string[] }> {
  const here: string[] = []
  for (const site of SITES)
    for (const [id, n, note] of await ask(site, 'SELECT id, n, note FROM site.beds ORDER BY id'))
      here.push([site, id, n, note].join(' '))
  const there = await ask(to, 'SELECT origin, id, n, note FROM together.beds ORDER BY origin, id')
  return { here, there: there.map(row => row.join(' ')) }
}

async function same(to: string): Promise<void> {
  let last: Awaited<ReturnType<typeof bothSides>> | undefined
  await eventually(async () => {
    last = await bothSides(to)
    return JSON.stringify(last.here) === JSON.stringify(last.there)
  }, 30).catch(() => {})
  expect(last!.there).toEqual(last!.here)
}

describe.each(['into duckdb', 'into postgres', 'into mariadb'])('three origins %s', to => {
  let id: string
  const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
  const origin = async (tag: string) => (await status()).origins.find(one => one.tag === tag)!
  const follows = () =>
    eventually(async () => {
      const { origins } = await status()
      return origins.length === 3 && origins.every(({ state }) => state === 'Following')
    })

  beforeAll(async () => {
    for (const site of SITES) {
      if (site !== 'cotter') await at[site]!('DROP SCHEMA IF EXISTS site CASCADE; CREATE SCHEMA site')
      const [text, big] = site === 'cotter' ? ['varchar(40)', 'bigint'] : ['text', 'int']
      await at[site]!(`DROP TABLE IF EXISTS site.beds; DROP TABLE IF EXISTS site.rows_of_beds;
        CREATE TABLE site.beds (id int PRIMARY KEY, n ${big} NOT NULL, note ${text}, mail ${text}${site === 'bracken' ? ', slope numeric(4,1)' : ''});
        INSERT INTO site.beds (id, n, note, mail) VALUES (1, 1, '${site} one', 'a@example.org'), (2, 2, '${site} two', NULL)`)
    }
    await at.alder!('CREATE TABLE site.rows_of_beds (id int PRIMARY KEY)')
  })

  test('the plan says what only some have, and what is told apart by what', async () => {
    const plan = await call<PlanAnswer>(url, 'POST', '/plan', { definition: definition(to), fresh: true })
    const said = plan.notes.map(({ level, message }) => `${level}: ${message}`)
    expect(said.filter(one => one.startsWith('refused'))).toEqual([])
    expect(said).toContainEqual('warning: site.rows_of_beds is only at alder.')
    expect(said).toContainEqual('warning: site.beds.slope is only at bracken.')
    const beds = plan.lanes.filter(({ source }) => source.name === 'beds')
    expect(beds.map(({ origin }) => origin)).toEqual(SITES)
    expect(new Set(beds.map(({ key }) => key.join().toLowerCase()))).toEqual(new Set(['origin,id']))
    expect(plan.steps.filter(({ step }) => step !== 'create schema')).toHaveLength(2)
  })

  test('all are copied and followed; a truncate, a recopy and a stop touch one of them alone', async () => {
    const made = await call<PipelineStatus>(url, 'POST', '/pipelines', definition(to))
    id = made.id
    await call(url, 'POST', `/pipelines/${id}/start`)
    await follows()
    await same(to)
    for (const site of SITES)
      await at[site]!(`UPDATE site.beds SET n = n + 10 WHERE id = 1; DELETE FROM site.beds WHERE id = 2;
        INSERT INTO site.beds (id, n, note) VALUES (3, 3, '${site} three')`)
    await same(to)
    await at.alder!(`TRUNCATE site.beds; INSERT INTO site.beds (id, n, note) VALUES (7, 7, 'alder anew')`)
    await same(to)
    const bracken = await origin('bracken')
    await call(url, 'POST', `/pipelines/${bracken.id}/recopy`, { lanes: [] })
    await at.bracken!(`INSERT INTO site.beds (id, n, note) VALUES (8, 8, 'bracken while it is recopied')`)
    await same(to)
    const cotter = await origin('cotter')
    await call(url, 'POST', `/pipelines/${cotter.id}/stop`)
    await eventually(async () => (await origin('cotter')).state === 'Stopped')
    expect((await status()).state).toBe('Following')
    await at.cotter!('DELETE FROM site.beds WHERE id = 1; UPDATE site.beds SET n = 99')
    await at.bracken!('UPDATE site.beds SET n = 50 WHERE id = 8')
    await eventually(async () =>
      (await bothSides(to)).there.includes('bracken 8 50 bracken while it is recopied'),
    )
    expect((await bothSides(to)).there).toContain('cotter 3 3 cotter three')
    await call(url, 'POST', `/pipelines/${cotter.id}/start`)
    await follows()
    await same(to)
  })

  test('one that is paused waits alone, and what is masked is masked of all', async () => {
    const alder = await origin('alder')
    await call(url, 'POST', `/pipelines/${alder.id}/pause`)
    await eventually(async () => (await origin('alder')).state === 'Paused')
    for (const site of SITES)
      await at[site]!(`INSERT INTO site.beds (id, n, note, mail) VALUES (9, 9, '${site}', 'b@example.org')`)
    await eventually(async () => (await bothSides(to)).there.filter(row => / 9 9 /.test(row)).length === 2)
    expect((await bothSides(to)).there).not.toContain('alder 9 9 alder')
    await call(url, 'POST', `/pipelines/${alder.id}/continue`)
    await same(to)
    const masked = await ask(to, 'SELECT DISTINCT mail FROM together.beds WHERE id = 9')
    expect(masked).toEqual([[expect.stringMatching(/^[0-9a-f]{64}$/)]])
  })

  test('a start again replaces what was made, and says so', async () => {
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await eventually(async () => (await status()).state === 'Stopped')
    const plan = await call<PlanAnswer>(url, 'POST', '/plan', {
      pipeline: id,
      definition: definition(to),
      fresh: true,
    })
    expect(plan.notes.filter(({ level }) => level === 'loss')).toHaveLength(2)
    await call(url, 'POST', `/pipelines/${id}/start`)
    await follows()
    await same(to)
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await eventually(async () => (await status()).state === 'Stopped')
    await call(url, 'DELETE', `/pipelines/${id}`)
  })
})
