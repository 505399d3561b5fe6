/** Rows that time alone moves into a scope come, and those that it moves out go, while others change. By the systems' own SQL. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
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
  await systems.inMariadb('CREATE DATABASE bracken')
  await systems.connect('bracken', 'mariadb', { ...systems.mariadb.config, database: 'bracken' })
  await systems.connect('into duckdb', 'duckdb', { path: join(systems.folder, 'w.duckdb') })
  await systems.connect('into postgres', 'postgres', { ...systems.postgres.config, database: 'gathered' })
  await systems.inPostgres(
    'alder',
    `CREATE SCHEMA site;
     CREATE TABLE site.visits (id int PRIMARY KEY, due timestamptz, note text);
     INSERT INTO site.visits SELECT i, now() + (i - 20) * interval '1 second', 'n' || i FROM generate_series(1, 40) i`,
  )
  await systems.inMariadb(
    `USE bracken; CREATE TABLE bracken.visits (id int PRIMARY KEY, due datetime(6), note text);
     INSERT INTO bracken.visits SELECT seq, utc_timestamp(6) + INTERVAL (CAST(seq AS SIGNED) - 20) SECOND, concat('n', seq) FROM seq_1_to_40`,
  )
}, 120_000)
afterAll(() => systems?.close())

const WAYS = [
  {
    source: 'alder',
    namespace: 'site',
    to: 'into duckdb',
    later: (seconds: string) => `now() + (${seconds}) * interval '1 second'`,
  },
  {
    source: 'bracken',
    namespace: 'bracken',
    to: 'into postgres',
    later: (seconds: string) => `utc_timestamp(6) + INTERVAL (${seconds}) SECOND`,
  },
]

test.each(WAYS)(
  'from $source $to',
  async ({ source, namespace, to, later }) => {
    const change = (sql: string) =>
      source === 'alder' ? systems.inPostgres('alder', sql) : systems.inMariadb(sql)
    const definition: Definition = {
      version: 2,
      shape: 'replicate',
      name: `${source} ${to}`,
      from: systems.ids[source]!,
      to: systems.ids[to]!,
      targetSchema: `of_${source}`,
      tables: [{ namespace, name: 'visits' }],
      columns: [{ like: '*.due', does: { leave: 'out' } }],
      // Those of the last eight seconds and of the next two.
      scopes: [
        { like: '*', where: { column: 'due', op: 'is at least', value: 'now - 8 seconds' } },
        { like: '*', where: { column: 'due', op: 'is at most', value: 'now + 2 seconds' } },
      ],
    }
    const { id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
    const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
    const state = (wanted: string) =>
      eventually(async () => {
        const { state, reason } = await status()
        if (reason && reason.kind !== 'person') throw new Error(`${reason.message} ${reason.remedy}`)
        return state === wanted
      }, 30)
    await call(url, 'POST', `/pipelines/${id}/start`)
    await state('Following')
    /** Rows near an edge are left out of it: they may just be on their way. */
    const isRight = async () => {
      const edge = (n: number) =>
        `'${new Date(Date.now() + n * 1000).toISOString().slice(0, -1).replace('T', ' ')}${source === 'alder' ? '+00' : ''}'`
      const [within, beyond] = await Promise.all(
        [`due > ${edge(-6)} AND due < ${edge(0)}`, `due < ${edge(-11)} OR due > ${edge(5)}`].map(
          async where =>
            (await systems.ask(source, `SELECT id, note FROM ${namespace}.visits WHERE ${where}`)).map(row =>
              row.join(' '),
            ),
        ),
      )
      const there = new Set(
        (await systems.ask(to, `SELECT id, note FROM of_${source}.visits`)).map(row => row.join(' ')),
      )
      return within!.every(row => there.has(row)) && !beyond!.some(row => there.has(row))
    }
    const began = Date.now()
    let right = 0
    while (Date.now() - began < 9_000) {
      await change(`UPDATE ${namespace}.visits SET note = 'changed ${right}' WHERE id % 5 = ${right % 5}`)
      await eventually(isRight, 6)
      right++
    }
    expect(right).toBeGreaterThan(3)
    // What moved while it stood still is made up for.
    await call(url, 'POST', `/pipelines/${id}/pause`)
    await state('Paused')
    await change(`UPDATE ${namespace}.visits SET due = ${later('id - 20')} WHERE id > 10`)
    await new Promise(resolve => setTimeout(resolve, 4_000))
    await call(url, 'POST', `/pipelines/${id}/continue`)
    await eventually(isRight, 10)
    await change(`UPDATE ${namespace}.visits SET due = ${later('id - 20')}`)
    await call(url, 'POST', `/pipelines/${id}/stop`)
    await state('Stopped')
  },
  60_000,
)
