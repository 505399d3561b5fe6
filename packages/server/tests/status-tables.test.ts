/** How a pipeline stands, as those see it who query the target; by the systems' own SQL. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import type { Definition } from '@tide/core/definition/definition'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string

beforeAll(async () => {
  systems = await openRealSystems(['alder', 'gathered'])
  ;({ url } = systems)
  await systems.inMariadb('CREATE DATABASE gathered')
  await systems.connect('into mariadb', 'mariadb', { ...systems.mariadb.config, database: 'gathered' })
  await systems.connect('into duckdb', 'duckdb', { path: join(systems.folder, 'w.duckdb') })
  await systems.connect('into postgres', 'postgres', { ...systems.postgres.config, database: 'gathered' })
  await systems.inPostgres(
    'alder',
    `CREATE SCHEMA site; CREATE TABLE site.beds (id int PRIMARY KEY, note text); CREATE TABLE site.visits (id int PRIMARY KEY);
     INSERT INTO site.beds SELECT i, 'n' || i FROM generate_series(1, 30) i`,
  )
}, 120_000)
afterAll(() => systems?.close())

test.each(['into duckdb', 'into postgres', 'into mariadb'])(
  '%s',
  async to => {
    const definition: Definition = {
      version: 2,
      shape: 'replicate',
      name: to,
      from: systems.ids.alder!,
      to: systems.ids[to]!,
      targetSchema: 'of_site',
      tables: ['beds', 'visits'].map(name => ({ namespace: 'site', name })),
      status: 'tide',
    }
    const { id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
    const stands = (state: string) =>
      eventually(async () => {
        const { reason, ...one } = await call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
        if (reason && reason.kind !== 'person') throw new Error(reason.message)
        return one.state === state && (state !== 'Following' || one.backlog === 0)
      }, 30)
    const ask = (sql: string) => systems.ask(to, sql)
    const lanes = () =>
      ask(
        `SELECT source_table, state, rows_copied, inserted, updated, deleted, held FROM of_site.tide_lanes ORDER BY 1`,
      )
    const plan = await call<PlanAnswer>(url, 'POST', '/plan', { definition, pipeline: id })
    expect(plan.statements.filter(statement => statement.includes('tide_lanes'))).toHaveLength(1)
    await call(url, 'POST', `/pipelines/${id}/start`)
    await stands('Following')
    await systems.inPostgres(
      'alder',
      `INSERT INTO site.beds SELECT i, 'x' FROM generate_series(31, 35) i; UPDATE site.beds SET note = 'y' WHERE id < 3`,
    )
    await eventually(async () => (await lanes())[0]![3] === '5', 15)
    expect(await lanes()).toEqual([
      ['site.beds', 'Following', '30', '5', '2', '0', '0'],
      ['site.visits', 'Following', '0', '0', '0', '0', '0'],
    ])
    // Whoever reads both in one statement sees them agree.
    const counted = `SELECT (SELECT count(*) FROM of_site.beds) - rows_copied - inserted FROM of_site.tide_lanes WHERE source_table = 'site.beds'`
    expect(Number((await ask(counted))[0]![0])).toBe(0)
    const [fresh] = await ask(
      `SELECT count(*) FROM of_site.tide_lanes WHERE complete_up_to IS NOT NULL AND written_at IS NOT NULL AND lag_seconds < 30`,
    )
    expect(Number(fresh![0])).toBe(2)
    await call(url, 'POST', `/pipelines/${id}/pause`)
    await stands('Paused')
    await eventually(async () => (await lanes()).every(row => row[1] === 'Paused'), 15)
    await call(url, 'POST', `/pipelines/${id}/continue`)
    await stands('Following')
    await systems.inPostgres(
      'alder',
      `DELETE FROM site.beds WHERE id > 30; UPDATE site.beds SET note = 'n' || id`,
    )
    await eventually(async () => (await lanes())[0]![5] === '5', 15)
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await stands('Stopped')
    expect((await lanes()).map(row => row[1])).toEqual(['Stopped', 'Stopped'])
    const states = (await ask('SELECT state FROM of_site.tide_states ORDER BY since')).map(([state]) => state)
    expect(states.filter((state, i) => state !== states[i - 1]).slice(-4)).toEqual([
      'Following',
      'Paused',
      'Following',
      'Stopped',
    ])
    expect(await ask(`SELECT state, rows_moved FROM of_site.tide_runs WHERE kind = 'copy'`)).toEqual([
      ['done', '30'],
    ])
    // Another pipeline cannot have the same tables.
    const other: Definition = {
      ...definition,
      name: `also ${to}`,
      tables: [],
      patterns: [{ take: 'in', like: 'site.*' }],
    }
    const refused = await call<PlanAnswer>(url, 'POST', '/plan', { definition: other })
    expect(
      refused.notes.some(({ level, message }) => level === 'refused' && message.includes('tide_lanes')),
    ).toBe(true)
  },
  60_000,
)
