/** Changes land as files; whoever reads them by the guide's own loop has the source's table. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { readdirSync } from 'node:fs'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'
import { readByTheGuide } from './guide.ts'

let systems: RealSystems
let url: string

const TABLE = `CREATE SCHEMA site;
  CREATE TABLE site.beds (id int PRIMARY KEY, name text, area numeric(8,2), large numeric, big bigint, share float8, wet boolean, tags text[],
    photo bytea, about jsonb, seen timestamptz, day date);
  INSERT INTO site.beds SELECT i, 'bed ' || i, i * 1.5, i / 3.0, 9007199254740993 + i, i / 7.0::float8, i % 2 = 0, ARRAY['a' || i, 'b "quoted", '],
    decode(lpad(to_hex(i), 8, '0'), 'hex'), jsonb_build_object('i', i, 'line', E'one\\ntwo'), '2026-03-09 17:00:00+00'::timestamptz + i * interval '1 hour', '2026-03-09'::date + i
    FROM generate_series(1, 500) i`

/** What any reader of JSON makes of the rows. */
const AS_JSON = `SELECT json_object_agg(id, json_build_object('name', name, 'area', area::text, 'large', large::text, 'big', big::text, 'share', share, 'wet', wet,
    'tags', tags, 'photo', photo::text, 'about', about, 'day', day::text)) FROM site.beds`

beforeAll(async () => {
  systems = await openRealSystems(['alder'])
  ;({ url } = systems)
  await systems.connect('lake', 'folder', { path: join(systems.folder, 'lake') })
  await systems.inPostgres('alder', TABLE)
}, 120_000)
afterAll(() => systems?.close())

const definitionOf = (
  name: string,
  files: ReplicateDefinition['files'],
  more: Partial<ReplicateDefinition> = {},
): ReplicateDefinition => ({
  version: 2,
  shape: 'replicate',
  name,
  from: systems.ids.alder!,
  to: systems.ids.lake!,
  targetSchema: name.replaceAll(' ', '_'),
  tables: [{ namespace: 'site', name: 'beds' }],
  files,
  speed: { waits: 0.2 },
  ...more,
})

async function begin(definition: ReplicateDefinition): Promise<string> {
  const { id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
  const plan = await call<PlanAnswer>(url, 'POST', '/plan', { definition, pipeline: id })
  expect(plan.notes.filter(({ level }) => level === 'refused' || level === 'undecided')).toEqual([])
  await call(url, 'POST', `/pipelines/${id}/start`)
  await caughtUp(id)
  return id
}

const caughtUp = (id: string) =>
  eventually(async () => {
    const { reason, state, backlog, consistent } = await call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
    if (reason && reason.kind !== 'person') throw new Error(reason.message)
    return state === 'Following' && backlog === 0 && consistent
  }, 30)

const CHANGES = `UPDATE site.beds SET name = E'x\\ty\\n"z" \\\\', large = 'NaN' WHERE id < 20;
  DELETE FROM site.beds WHERE id BETWEEN 30 AND 40;
  UPDATE site.beds SET id = 1000 WHERE id = 50;
  INSERT INTO site.beds (id) VALUES (2000);
  BEGIN; INSERT INTO site.beds (id, name) VALUES (3000, ''); DELETE FROM site.beds WHERE id = 3000; COMMIT`

test('JSON Lines, read by the loop of the guide, are the table as it is', async () => {
  const id = await begin(definitionOf('as json', { format: 'json lines' }))
  const folder = join(systems.folder, 'lake', 'as_json.beds')
  const [[is]] = (await systems.ask('alder', AS_JSON)) as [[string]]
  expect(readByTheGuide(folder)).toEqual(expectedOf(is))
  await systems.inPostgres('alder', CHANGES)
  await eventually(async () => {
    const [[now]] = (await systems.ask('alder', AS_JSON)) as [[string]]
    expect(readByTheGuide(folder)).toEqual(expectedOf(now))
    return true
  }, 20)
  await systems.inPostgres(
    'alder',
    `TRUNCATE site.beds; INSERT INTO site.beds (id, name) VALUES (7, 'seven')`,
  )
  await eventually(() => Promise.resolve(Object.keys(readByTheGuide(folder)).length === 1), 20)
  const [row] = await systems.ask(
    'lake',
    `SELECT count(*), max(change_number) FROM as_json.beds WHERE change_operation = 'truncate'`,
  )
  expect(row).toEqual(['1', '0'])
  await call(url, 'POST', `/pipelines/${id}/stop`)
}, 90_000)

test.each([
  ['csv', 'none'],
  ['parquet', 'snappy'],
] as const)(
  'as %s they are the same rows; a lane that is copied again begins anew behind them, and a stop lands what waits',
  async (format, compress) => {
    await systems.inPostgres('alder', `DROP SCHEMA site CASCADE; ${TABLE}`)
    const name = `as_${format}`
    const definition = definitionOf(name, { format, compress, folders: 'on={date}' })
    const id = await begin({ ...definition, speed: { waits: 3600 } })
    const kinds = async () =>
      Object.fromEntries(
        await systems.ask(
          'lake',
          `SELECT change_operation, count(*) FROM ${name}.beds GROUP BY ALL ORDER BY 1`,
        ),
      ) as Record<string, string>
    expect(await kinds()).toEqual({ copy: '500' })
    // What reads them types them as the source has them.
    const same = `SELECT count(*), sum(big)::VARCHAR, sum(area)::VARCHAR, count(*) FILTER (wet), min(day)::VARCHAR, max(seen)::VARCHAR FROM ${name}.beds`
    const [there] = await systems.ask('lake', same)
    const [here] = await systems.ask(
      'alder',
      `SELECT count(*), sum(big)::text, sum(area)::text, count(*) FILTER (WHERE wet), min(day)::text, to_char(max(seen) AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS') || '+00' FROM site.beds`,
    )
    expect(there).toEqual(here)
    await systems.inPostgres('alder', `UPDATE site.beds SET name = 'x' WHERE id <= 3`)
    await eventually(
      async () => (await call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)).backlog === 3,
      20,
    )
    await call(url, 'POST', `/pipelines/${id}/land-now`)
    await caughtUp(id)
    expect(await kinds()).toEqual({ copy: '500', update: '3' })
    await call(url, 'POST', `/pipelines/${id}/recopy`, { lanes: [0] })
    await eventually(async () => (await kinds()).update === undefined, 30)
    await eventually(async () => (await kinds()).copy === '500', 30)
    // What the copy holds already waits like all that comes.
    await call(url, 'POST', `/pipelines/${id}/land-now`)
    await caughtUp(id)
    await systems.inPostgres('alder', `DELETE FROM site.beds WHERE id <= 7`)
    await eventually(
      async () => (await call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)).backlog === 7,
      20,
    )
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await eventually(
      async () => (await call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)).state === 'Stopped',
      20,
    )
    expect(await kinds()).toEqual({ copy: '500', delete: '7' })
    // What has come before is there still, for those who have not read it.
    const manifests = readdirSync(join(systems.folder, 'lake', `${name}.beds`, 'manifest'))
    expect(manifests.length).toBeGreaterThan(4)
  },
  120_000,
)

function expectedOf(json: string): Record<string, object> {
  return JSON.parse(json) as Record<string, object>
}
