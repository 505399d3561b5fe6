/** What is done at set times, by the systems' own SQL; the scheduler's time is handed in. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { ScheduleAnswer } from '@tide/core/api/schedules'
import type { Definition } from '@tide/core/definition/definition'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { missing } from '../src/scheduled-deeds.ts'
import { Scheduler } from '../src/scheduler.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string
/** By how much the scheduler's clock is ahead. */
let ahead = 0
let scheduler: Scheduler
const ids: Record<string, string> = {}
const EACH_MINUTE = { cron: '* * * * *', zone: 'UTC' }

beforeAll(async () => {
  systems = await openRealSystems(['alder'])
  ;({ url } = systems)
  await systems.connect('warehouse', 'duckdb', { path: join(systems.folder, 'w.duckdb') })
  await systems.inPostgres(
    'alder',
    `CREATE SCHEMA site; CREATE TABLE site.beds (id int PRIMARY KEY, note text); CREATE TABLE site.visits (id int PRIMARY KEY);
     INSERT INTO site.beds SELECT i, 'n' || i FROM generate_series(1, 30) i`,
  )
  for (const table of ['beds', 'visits']) {
    const definition: Definition = {
      version: 2,
      shape: 'replicate',
      name: table,
      from: systems.ids.alder!,
      to: systems.ids.warehouse!,
      targetSchema: 'site',
      tables: [{ namespace: 'site', name: table }],
    }
    const { id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition)
    ids[table] = id
    await call(url, 'POST', `/pipelines/${id}/start`)
    await stands(table, 'Following')
  }
  scheduler = new Scheduler(systems.services, () => Date.now() + ahead)
}, 120_000)
afterAll(async () => {
  await scheduler?.close()
  await systems?.close()
})

const status = (name: string) => call<PipelineStatus>(url, 'GET', `/pipelines/${ids[name]}`)
const stands = (name: string, state: string) =>
  eventually(async () => {
    const { reason, ...one } = await status(name)
    if (reason && reason.kind !== 'person') throw new Error(reason.message)
    return one.state === state && (state !== 'Following' || one.backlog === 0)
  }, 30)
const schedules = (name: string) => call<ScheduleAnswer[]>(url, 'GET', `/pipelines/${ids[name]}/schedules`)
const given = (name: string, more: object) =>
  call<ScheduleAnswer[]>(url, 'POST', `/pipelines/${ids[name]}/schedules`, { ...EACH_MINUTE, ...more })
const clear = async (name: string) => {
  for (const { id } of await schedules(name))
    await call(url, 'DELETE', `/pipelines/${ids[name]}/schedules/${id}`)
}
/** Until the outcome of the only schedule is another one. */
const outcome = async (name: string) => {
  const before = (await schedules(name))[0]!.outcome?.at
  return eventually(async () => {
    const [{ outcome } = {} as ScheduleAnswer] = await schedules(name)
    return outcome && outcome.at !== before && outcome
  }, 30)
}
const minute = 60_000
/** Just behind the next full minute. */
const nextMinute = () => (ahead += minute - ((Date.now() + ahead) % minute) + 1_000)
const there = async () => Number((await systems.ask('warehouse', 'SELECT count(*) FROM site.beds'))[0]![0])

test('it catches up with what there is by then, and rests', async () => {
  await call(url, 'POST', `/pipelines/${ids.beds}/pause`)
  await stands('beds', 'Paused')
  await systems.inPostgres('alder', `INSERT INTO site.beds SELECT i, 'later' FROM generate_series(31, 40) i`)
  await given('beds', { deed: 'catch up' })
  expect(await there()).toBe(30)
  nextMinute()
  expect(await outcome('beds')).toMatchObject({ well: true, said: expect.stringContaining('Caught up') })
  await stands('beds', 'Paused')
  expect(await there()).toBe(40)
  await clear('beds')
  await call(url, 'POST', `/pipelines/${ids.beds}/continue`)
  await stands('beds', 'Following')
}, 60_000)

test('a verification is made once however many look, and its outcome told', async () => {
  await given('beds', { deed: 'verify' })
  const other = new Scheduler(systems.services, () => Date.now() + ahead)
  nextMinute()
  await Promise.all([scheduler.look(), other.look(), scheduler.look()])
  expect(await outcome('beds')).toMatchObject({ well: true, said: 'Both sides of 1 lane agree.' })
  await other.close()
  expect(await call<unknown[]>(url, 'GET', `/pipelines/${ids.beds}/verifications`)).toHaveLength(1)
  const [{ doing, next } = {} as ScheduleAnswer] = await schedules('beds')
  expect([doing, next.length]).toEqual([null, 5])
  await clear('beds')
}, 60_000)

test('what was missed is made up for once, or left out', async () => {
  const year = 366 * 86_400_000
  for (const [missed, well] of [
    ['leave', false],
    ['once', true],
  ] as const) {
    await given('beds', { deed: 'count', missed, cron: '0 0 1 1 *' })
    ahead += 2 * year
    const told = (await outcome('beds'))!
    expect(told.well).toBe(well)
    expect(told.said.includes('is left out')).toBe(!well)
    const [{ doing, lastTick } = {} as ScheduleAnswer] = await schedules('beds')
    expect([doing, lastTick!.slice(4)]).toEqual([null, '-01-01T00:00:00.000Z'])
    await scheduler.look()
    expect((await schedules('beds'))[0]!.outcome).toEqual(told)
    ahead -= 2 * year
    await clear('beds')
  }
}, 60_000)

test('it waits until others are complete up to the set time, also over a kill, and no longer than until the next', async () => {
  await call(url, 'POST', `/pipelines/${ids.visits}/pause`)
  await stands('visits', 'Paused')
  await given('beds', { deed: 'count', waitsFor: [ids.visits] })
  const [schedule] = await systems.services.store.schedules.list(ids.beds)
  const tick = new Date().toISOString()
  const lacks = () => missing(systems.services, schedule!, { tick, phase: 'waiting', by: '' })
  expect(await lacks()).toContain('“visits” was not complete up to')
  nextMinute()
  await scheduler.look()
  expect((await schedules('beds'))[0]!.doing).toMatchObject({ phase: 'waiting' })
  await scheduler.close()
  scheduler = new Scheduler(systems.services, () => Date.now() + ahead)
  await call(url, 'POST', `/pipelines/${ids.visits}/continue`)
  await eventually(async () => (await lacks()) === undefined, 20)
  ahead += 60_000
  expect(await outcome('beds')).toMatchObject({
    well: false,
    said: expect.stringContaining('until the next set time'),
  })
  await clear('beds')
}, 60_000)

test('it is done only if rows have landed since the last time', async () => {
  await given('visits', { deed: 'count', waitsFor: [ids.beds], only: 'landed' })
  nextMinute()
  const first = (await outcome('visits'))!
  const next = async () => {
    nextMinute()
    const due = Date.now() + ahead
    await eventually(async () => Date.parse((await schedules('visits'))[0]!.lastTick!) > due - minute, 20)
    await eventually(async () => (await schedules('visits'))[0]!.doing === null, 20)
    return (await schedules('visits'))[0]!.outcome
  }
  expect(await next()).toEqual(first)
  const before = await there()
  await systems.inPostgres('alder', `INSERT INTO site.beds VALUES (900, 'late')`)
  await eventually(async () => (await there()) === before + 1, 20)
  await stands('beds', 'Following')
  const then = (await next())!
  expect(Date.parse(then.at)).toBeGreaterThan(Date.parse(first.at))
  expect(await next()).toEqual(then)
  await clear('visits')
  await expect(given('visits', { deed: 'count', only: 'landed' })).rejects.toThrow('whose rows')
}, 60_000)

test('what cannot be done is said, and so is what is no schedule', async () => {
  await call(url, 'POST', `/pipelines/${ids.visits}/stop`)
  await stands('visits', 'Stopped')
  await given('visits', { deed: 'catch up' })
  nextMinute()
  expect(await outcome('visits')).toMatchObject({ well: false, said: expect.stringContaining('is stopped') })
  await clear('visits')
  const refused = (more: object, said: string) =>
    expect(given('beds', { deed: 'verify', ...more })).rejects.toThrow(said)
  await refused({ cron: '0 0 30 2 *' }, 'never comes')
  await refused({ zone: 'Alder/Bank' }, 'no time zone')
  await refused({ deed: 'dance' }, 'What is done')
  await refused({ waitsFor: [ids.beds] }, 'wait for itself')
  await refused({ waitsFor: ['0000000000'] }, 'no pipeline')
  expect(await schedules('beds')).toEqual([])
}, 60_000)
