import { expect, test } from '@jest/globals'
import type { EngineRecord, PipelineWork } from '@tide/core/definition/pipeline'
import fc from 'fast-check'
import { mustRun, shareOf, worthTaking } from '../src/share.ts'

const engine = (n: number, live = true): EngineRecord => ({
  id: `e${n}`,
  name: `engine ${n}`,
  home: `folder ${n}`,
  live,
  startedAt: '',
  seenAt: '',
})

/** Pipelines as indexes of the folder that each is tied to; -1: any engine may run it. */
const ties = fc.array(fc.integer({ min: -1, max: 3 }), { maxLength: 20 })
const turns = fc.array(fc.nat(3), { maxLength: 60 })

/** The world of engines that look by turns: takes, and gives one back when it has more than its share. */
function look(me: EngineRecord, all: PipelineWork[], engines: EngineRecord[]): void {
  const idle = all.filter(({ holder, free }) => holder !== me.id || free)
  for (const work of worthTaking(idle, all, me, engines)) {
    expect(work.free).toBe(true)
    Object.assign(work, { holder: me.id, free: false })
  }
  const mine = all.filter(({ holder, home, free }) => holder === me.id && !free && home === null)
  if (mine.length > shareOf(all, me, engines)) Object.assign(mine.at(-1)!, { holder: null, free: true })
}

test('whatever engines come and go, all pipelines run in the end, each within its engine’s share', () => {
  fc.assert(
    fc.property(ties, fc.integer({ min: 1, max: 4 }), turns, fc.nat(3), (tied, count, order, gone) => {
      let engines = Array.from({ length: count }, (_, n) => engine(n))
      const all = tied.map((home, n) => work(`p${n}`, home < 0 ? null : `folder ${home}`))
      for (const n of order) if (engines[n]) look(engines[n], all, engines)
      if (count > 1) {
        // One is killed: its leases run out.
        const dead = `e${gone % count}`
        engines = engines.filter(({ id }) => id !== dead)
        for (const one of all) if (one.holder === dead) one.free = true
      }
      for (let round = 0; round < all.length + 2; round++) for (const one of engines) look(one, all, engines)
      const settled = all.map(({ holder }) => holder)
      for (const one of engines) look(one, all, engines)
      expect(all.map(({ holder }) => holder)).toEqual(settled) // nothing goes to and fro
      for (const { home, holder, free } of all) {
        const there = home === null || engines.some(one => one.home === home)
        expect(!free).toBe(there)
        if (!free && home !== null) expect(engines.find(({ id }) => id === holder)!.home).toBe(home)
      }
      const movable = all.filter(({ home }) => home === null)
      for (const { id } of engines) {
        const has = movable.filter(({ holder }) => holder === id).length
        expect(has).toBeLessThanOrEqual(Math.ceil(movable.length / engines.length))
      }
    }),
  )
})

test.each<[string, Partial<PipelineWork>, boolean]>([
  ['one that follows', { state: 'Following' }, true],
  ['one that is paused, which measures on', { state: 'Paused' }, true],
  ['one that was told to stop and is not off its source yet', { state: 'Stopped', wanted: 'stop' }, true],
  ['one that stopped for a reason', { state: 'Stopped', wanted: 'stop', hasReason: true }, false],
  ['one that was never started', { state: 'Draft', wanted: null as never }, false],
])('%s needs an engine or not', (_, work_, needs) => {
  expect(mustRun({ ...work('p', null), ...work_ })).toBe(needs)
})

function work(id: string, home: string | null): PipelineWork {
  return {
    id,
    home,
    holder: null,
    free: true,
    state: 'Following',
    wanted: 'run',
    hasReason: false,
  } as PipelineWork
}
