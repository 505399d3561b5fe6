/** The account of what a pipeline did. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { RunRecord } from '@tide/core/definition/run'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Runs } from '../src/runs.ts'
import { MemoryLog, type Logged } from './memory-log.ts'
import { MemoryTarget, sessionOf } from './memory-systems.ts'
import { laneOf, settled, world } from './world.ts'

const LANES = [laneOf('nursery', 't'), laneOf('nursery', 'u')]
let folder: string
beforeAll(() => void (folder = mkdtempSync(join(tmpdir(), 'constant-tide-runs-'))))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

test('copying, following from pause to pause, a rewind: each is told with what it moved', async () => {
  const [log, target] = [new MemoryLog(), new MemoryTarget()]
  log.rest = () => new Promise(resolve => setImmediate(resolve))
  const made = world(
    {
      from: () => sessionOf({ log: log.side }),
      to: () => sessionOf({ target: target.side(() => undefined) }),
    },
    folder,
  )
  const engine = made.engine()
  const { record } = made
  const put = (table: string, key: string) => log.commit([[table, 'v', key] as Logged[number]])
  put('t', 't1')
  put('u', 'u1')
  await engine.start()
  await engine.begin('p', { definition: record.definition, lanes: LANES, steps: [] })
  const even = () =>
    record.state === 'Following' && target.state.checkpoint?.streams[0]?.position.at === log.end.at
  await settled(even)
  put('t', 't2')
  put('t', 't3')
  await settled(even)
  await engine.deeds.rewind('p', [{ run: 'p', to: target.state.checkpoint!.streams[0]!.position }], null)
  await settled(() => made.errands.every(({ endedAt }) => endedAt !== null))
  await engine.pause('p')
  await settled(() => record.state === 'Paused')
  await engine.continue('p')
  await settled(even)
  put('u', 'u2')
  await settled(even)
  await engine.stop()
  const told = [...made.runs.values()].map(({ kind, state, rows, lanes, endedAt }) => [
    kind,
    state,
    rows,
    Object.fromEntries(
      lanes.map(({ table, mode, inserted, updated }) => [`${table} ${mode}`, inserted + updated]),
    ),
    endedAt !== null,
  ])
  expect(told).toEqual([
    ['copy', 'done', 2, { 'nursery.t full': 1, 'nursery.u full': 1 }, true],
    ['follow', 'ended', 2, { 'nursery.t changes': 2 }, true],
    ['rewind', 'done', 0, {}, true],
    ['follow', 'ended', 1, { 'nursery.u changes': 1 }, true],
  ])
})

test('figures are put down while it goes on, and each day is a run of its own', async () => {
  const told: RunRecord[] = []
  let now = Date.UTC(2026, 4, 2, 23, 59, 50)
  const runs = new Runs(
    {
      runs: { put: async run => void told.push(run) },
      surroundings: { now: () => now, newId: () => `id ${told.length}` },
    },
    { pipeline: 'p', from: 'a', to: 'b' },
  )
  runs.going('follow')
  runs.going('follow')
  await runs.tell()
  runs.count('follow', { writes: 2 })
  await runs.tell() // too early
  now += 6_000
  await runs.tell()
  now += 6_000
  await runs.tell()
  runs.retried()
  await runs.endAll('failed', 'The table is gone.')
  expect(told.map(({ id, state, writes, retries, note }) => [id, state, writes, retries, note])).toEqual([
    ['id 0', 'going', 0, 0, null],
    ['id 0', 'going', 2, 0, null],
    ['id 0', 'ended', 2, 0, 'The day ended; the next run goes on.'],
    ['id 3', 'going', 0, 0, null],
    ['id 3', 'failed', 0, 1, 'The table is gone.'],
  ])
})

test('what is refused has failed, and is over', async () => {
  const told: RunRecord[] = []
  const runs = new Runs(
    { runs: { put: async run => void told.push(run) }, surroundings: { now: () => 0, newId: () => 'id' } },
    { pipeline: 'p', from: 'a', to: 'b' },
  )
  const refused = runs.during('repair', () => Promise.reject(new Error('It has no key.')))
  await expect(refused).rejects.toThrow('It has no key.')
  await runs.during('repair', async () => '1 row written.')
  expect(told.map(({ state, note, endedAt }) => [state, note, endedAt !== null])).toEqual([
    ['failed', 'It has no key.', true],
    ['done', '1 row written.', true],
  ])
})
