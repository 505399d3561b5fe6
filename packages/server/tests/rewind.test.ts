/** Rewinds by time, position and mark over real sources: what is applied again is told by rows that somebody took away. */
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import type { PositionsAnswer, RewindForesight } from '@tide/core/api/rewind'
import { findPositions } from '@tide/core/position/find'
import { setTimeout as sleep } from 'node:timers/promises'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string

beforeAll(async () => {
  systems = await openRealSystems(['alder', 'bracken', 'gathered'])
  ;({ url } = systems)
  const { config } = systems.postgres
  await systems.connect('bracken by triggers', 'postgres', {
    ...config,
    database: 'bracken',
    method: 'triggers',
  })
  await systems.inMariadb('CREATE DATABASE cotter')
  await systems.connect('cotter', 'mariadb', { ...systems.mariadb.config, database: 'cotter' })
}, 120_000)
afterAll(() => systems?.close())

const SOURCES = [
  { source: 'alder', schema: 'site', run: (sql: string) => systems.inPostgres('alder', sql) },
  { source: 'bracken by triggers', schema: 'site', run: (sql: string) => systems.inPostgres('bracken', sql) },
  { source: 'cotter', schema: 'cotter', run: (sql: string) => systems.inMariadb(sql) },
]

describe.each(SOURCES)('from $source', ({ source, schema, run }) => {
  const table = `${schema}.beds`
  const into = `to_${source.split(' ')[0]}`
  let id: string
  const status = () => call<PipelineStatus>(url, 'GET', `/pipelines/${id}`)
  const rows = async (at: string, of: string) =>
    (await systems.ask(at, `SELECT id, note FROM ${of} ORDER BY 1`)).map(row => row.join(' '))
  const level = async () => {
    await eventually(async () => {
      const { state, reason, consistent, backlog } = await status()
      if (reason) throw new Error(`${reason.message} ${reason.remedy}`)
      return state === 'Following' && consistent && backlog === 0
    }, 30)
  }
  const equal = () =>
    eventually(
      async () => (await rows(source, table)).join() === (await rows('gathered', `${into}.beds`)).join(),
      30,
    )
  const foresee = async (to: Record<string, string>) => {
    const query = new URLSearchParams(to)
    const [one] = await call<RewindForesight[]>(url, 'GET', `/pipelines/${id}/rewind?${query}`)
    return one!
  }
  const rewind = (to: Record<string, string>) => call(url, 'POST', `/pipelines/${id}/rewind`, to)
  const takeAway = () => systems.inPostgres('gathered', `DELETE FROM ${into}.beds`)

  test('it is rewound by time, by position and to a mark; just what came since is applied again', async () => {
    if (schema === 'site') await run('CREATE SCHEMA site')
    await run(`CREATE TABLE ${table} (id int PRIMARY KEY, note varchar(40))`)
    await run(`INSERT INTO ${table} VALUES (1, 'first'), (2, 'second'), (3, 'third')`)
    const definition = {
      version: 2,
      shape: 'replicate',
      name: `of ${source}`,
      from: systems.ids[source],
      to: systems.ids.gathered,
      targetSchema: into,
      tables: [{ namespace: schema, name: 'beds' }],
    }
    ;({ id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition))
    await call(url, 'POST', `/pipelines/${id}/start`)
    await level()
    await run(`UPDATE ${table} SET note = 'second, early' WHERE id = 2`)
    await equal()
    await call(url, 'POST', `/pipelines/${id}/marks`, { note: 'before the harvest' })
    // A binary log tells seconds.
    await sleep(2_100)
    const time = new Date().toISOString()
    await sleep(1_100)
    await run(`UPDATE ${table} SET note = 'first, late' WHERE id = 1`)
    await run(`INSERT INTO ${table} VALUES (4, 'fourth')`)
    await run(`DELETE FROM ${table} WHERE id = 3`)
    await equal()
    await level()

    const foreseen = await foresee({ time })
    expect(foreseen).toMatchObject({ way: 'back', transactions: 3, counted: true })
    expect(foreseen.lanes).toEqual([{ source: table, changes: 3, from: null }])
    expect(Date.parse(foreseen.next!)).toBeGreaterThanOrEqual(Date.parse(time))

    await takeAway()
    await rewind({ time })
    await eventually(async () => (await rows('gathered', `${into}.beds`)).length === 2, 20)
    await level()
    expect(await rows('gathered', `${into}.beds`)).toEqual(['1 first, late', '4 fourth'])

    const { saved, journals } = await call<PositionsAnswer>(url, 'GET', `/pipelines/${id}/positions`)
    expect(saved.map(({ kind }) => kind)).toEqual(['rewind', 'mark', 'copied', 'start'])
    const mark = saved.find(({ kind }) => kind === 'mark')!
    expect(mark).toMatchObject({ note: 'before the harvest', held: true })
    await takeAway()
    await rewind({ position: mark.position })
    await eventually(async () => (await rows('gathered', `${into}.beds`)).length === 2, 20)

    // From the beginning on: by the position that the source's own tools print, here of the start.
    await takeAway()
    await rewind({ position: saved.at(-1)!.position })
    await eventually(async () => (await rows('gathered', `${into}.beds`)).length === 3, 20)
    await level()
    expect(await rows('gathered', `${into}.beds`)).toEqual(['1 first, late', '2 second, early', '4 fourth'])
    expect(await rows('gathered', `${into}.beds`)).toEqual(await rows(source, table))

    // What the source prints is understood as it is printed.
    const printed = await systems.ask(source, journals[0]!.statement!.replace(';', ''))
    const [position] = findPositions(journals[0]!.kind, printed.map(row => row.join('\t')).join('\n'))
    expect(position).toBeDefined()
  }, 90_000)

  test('one that copies nothing begins where it is asked to', async () => {
    const { saved } = await call<PositionsAnswer>(url, 'GET', `/pipelines/${id}/positions`)
    const definition = {
      version: 2,
      shape: 'replicate',
      name: `only changes of ${source}`,
      from: systems.ids[source],
      to: systems.ids.gathered,
      targetSchema: `${into}_changes`,
      tables: [{ namespace: schema, name: 'beds' }],
      does: 'follow',
      followFrom: saved.find(({ kind }) => kind === 'mark')!.position,
    }
    const refused = await call<PlanAnswer>(url, 'POST', '/plan', {
      definition: { ...definition, followFrom: '2999-01-01T00:00:00Z' },
    })
    expect(refused.notes[0]).toMatchObject({ level: 'refused', section: 'start' })
    const { id: other } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
    await call(url, 'POST', `/pipelines/${other}/start`)
    await eventually(
      async () => (await rows('gathered', `${into}_changes.beds`).catch(() => [])).length === 2,
      20,
    )
    expect(await rows('gathered', `${into}_changes.beds`)).toEqual(['1 first, late', '4 fourth'])
    expect((await call<PipelineStatus>(url, 'GET', `/pipelines/${other}`)).consistent).toBe(false)
  }, 60_000)

  test('what cannot be is refused with the remedy, and nothing moves', async () => {
    const errands = () => call<{ kind: string }[]>(url, 'GET', `/pipelines/${id}/errands`)
    const before = await errands()
    await expect(rewind({ time: '2999-01-01T00:00:00Z' })).rejects.toThrow('in the future')
    await expect(rewind({ time: '2001-01-01T00:00:00Z' })).rejects.toThrow('does not hold')
    await expect(rewind({ position: 'nonsense' })).rejects.toThrow('is no position')
    await expect(rewind({ time: new Date().toISOString(), position: 'x' })).rejects.toThrow()
    await expect(rewind({})).rejects.toThrow()
    await expect(foresee({ position: 'nonsense' })).rejects.toThrow('is no position')
    expect(await errands()).toEqual(before)
  })
})
