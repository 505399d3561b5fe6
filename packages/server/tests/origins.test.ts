/**
 * Three sources of one shape go into one set of tables, whatever system that is in: two PostgreSQL databases and a MariaDB,
 * with the same keys in each. Under changes at all three, one is recopied, one stops and is started again, one truncates;
 * in the end the target holds of each just what it has.
 */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { FullRehearsal } from '@tide/core/api/rehearsal'
import type { PlanAnswer } from '@tide/core/api/plans'
import type { Definition } from '@tide/core/definition/definition'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string
let ids: Record<string, string>

/** Runs statements at a source. */
const at: Record<string, (sql: string) => Promise<void>> = {
  alder: sql => systems.inPostgres('alder', sql),
  bracken: sql => systems.inPostgres('bracken', sql),
  cotter: sql => systems.inMariadb(sql),
}
const SITES = Object.keys(at)
const ask = (connection: string, sql: string) => systems.ask(connection, sql)

beforeAll(async () => {
  systems = await openRealSystems(['alder', 'bracken', 'gathered'])
  ;({ url, ids } = systems)
  await systems.inMariadb('CREATE DATABASE gathered')
  await systems.connect('cotter', 'mariadb', systems.mariadb.config)
  const path = join(systems.folder, 'gathered.duckdb')
  await systems.connect('into duckdb', 'duckdb', { path, fold: 'upper' })
  await systems.connect('into postgres', 'postgres', { ...systems.postgres.config, database: 'gathered' })
  await systems.connect('into mariadb', 'mariadb', { ...systems.mariadb.config, database: 'gathered' })
}, 120_000)
afterAll(() => systems?.close())

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

  test('a rehearsal tells of keys that several have, with an example', async () => {
    const { id: rehearsal } = await call<FullRehearsal>(url, 'POST', '/rehearsals', {
      definition: definition(to),
    })
    await eventually(async () => {
      const { state } = await call<FullRehearsal>(url, 'GET', `/rehearsals/${rehearsal}`)
      return state === 'done'
    })
    const { lanes } = await call<FullRehearsal>(url, 'GET', `/rehearsals/${rehearsal}`)
    const beds = lanes.filter(({ source }) => source.name === 'beds')
    expect(beds.map(({ origin, rows, held, shared }) => [origin, rows, held, shared])).toEqual([
      ['alder', 2, 0, null],
      ['bracken', 2, 0, { rows: 2, all: true, example: { key: ['1'], origin: 'alder' } }],
      ['cotter', 2, 0, { rows: 2, all: true, example: { key: ['1'], origin: 'alder' } }],
    ])
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
