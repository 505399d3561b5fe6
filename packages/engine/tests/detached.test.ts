/** Lanes that are copied again while the others go on. */
import { afterEach, beforeEach, expect, test } from '@jest/globals'
import { singleStream } from '@tide/core/checkpoint/checkpoint'
import { Failure } from '@tide/core/failure'
import type { LaneChange } from '@tide/core/plan/change'
import type { Lane } from '@tide/core/plan/lane'
import type { PrepareStep } from '@tide/core/plan/steps'
import fc from 'fast-check'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import {
  firstCheckpoint,
  joined,
  detachedLanes,
  neededFrom,
  uncopied,
  withLanding,
  withOwnLanding,
} from '../src/shapes/replicate/checkpoint.ts'
import type { Landing } from '../src/shapes/replicate/land.ts'
import { MemoryLog, type Logged } from './memory-log.ts'
import { MemoryTarget, sessionOf, troubled, type Trouble } from './memory-systems.ts'
import { laneOf, world } from './world.ts'

const NAMES = ['beds', 'tools', 'rota']
const LANES = NAMES.map(name => laneOf('nursery', name))

let folder: string
beforeEach(() => void (folder = mkdtempSync(join(tmpdir(), 'constant-tide-apart-'))))
afterEach(() => rmSync(folder, { recursive: true, force: true }))

/** A source with a log, a target, and engines between them. */
function bed(trouble: Trouble = () => undefined) {
  const [log, target] = [new MemoryLog(), new MemoryTarget()]
  const from = () =>
    sessionOf({
      log: { ...log.side, view: (...asked) => troubled(trouble, () => log.side.view(...asked)) },
    })
  const to = () => sessionOf({ target: target.side(trouble) })
  return { log, target, ...world({ from, to }, join(folder, String(Math.random()))) }
}

type Bed = ReturnType<typeof bed>

/** Rows of a lane at the target; one that is there twice shows. */
const there = ({ target }: Bed, name: string) =>
  target.state.rows
    .filter(([id]) => id.startsWith(`${name}/`))
    .map(([, [key, value]]) => `${key} ${value}`)
    .sort()
const wanted = ({ log }: Bed, name: string) =>
  [...log.rowsOf(name)].map(([key, value]) => `${key} ${value}`).sort()
const same = (one: Bed, name: string) =>
  JSON.stringify(there(one, name)) === JSON.stringify(wanted(one, name))
const equal = (one: Bed) => NAMES.every(name => same(one, name))
const together = ({ target }: Bed) =>
  target.state.checkpoint?.streams[0]!.lanes.every(({ copied, own }) => copied && !own) === true

async function until(what: () => boolean): Promise<void> {
  for (let tries = 0; !what(); tries++) {
    if (tries > 4000) throw new Error('it did not come to rest')
    await sleep(1)
  }
}

async function started(one: Bed, lanes = LANES) {
  const engine = one.engine()
  await engine.begin('p', { definition: one.record.definition, lanes, steps: [] })
  const names = lanes.map(({ source }) => source.name)
  await until(() => one.record.state === 'Following' && names.every(name => same(one, name)))
  return engine
}

test('while one lane is copied again, changes of the others land, and its own later', async () => {
  const one = bed()
  for (let i = 0; i < 20; i++) one.log.commit([['beds', `bed ${i}`]], [['tools', `tool ${i}`]])
  const engine = await started(one)
  one.target.state.rows.push(['beds/stray', ['stray', 'left by somebody']])
  // Each range of the copy waits for what a neighbour has committed since the last.
  let ranges = 0
  one.log.onRange = async () => {
    one.log.commit([
      ['tools', `while ${++ranges}`],
      ['beds', `while ${ranges}`],
    ])
    await until(() => there(one, 'tools').some(row => row.endsWith(` while ${ranges}`)))
    expect(there(one, 'beds').join()).not.toContain('while')
  }
  const states = new Set<string>()
  engine.onChange(() => states.add(one.record.state))
  await engine.deeds.recopy('p', [0])
  await until(() => ranges > 6 && together(one) && equal(one))
  expect(states).toEqual(new Set(['Following']))
  expect(there(one, 'beds').join()).not.toContain('stray')
  await engine.stop()
})

test('rows of an earlier start are gone, also where emptying was cut off behind the first checkpoint', async () => {
  let cut = false
  const one = bed(() => {
    if (cut || !one.target.state.checkpoint) return undefined
    cut = true
    return 'before'
  })
  one.target.state.rows.push(['beds/stray', ['stray', 'left from before']])
  for (let i = 0; i < 5; i++) one.log.commit([['beds', `bed ${i}`]])
  const engine = await started(one)
  expect([cut, there(one, 'beds').join().includes('stray')]).toEqual([true, false])
  await engine.stop()
})

test('the source may not forget what a lane that is copied again still needs', async () => {
  const one = bed()
  for (let i = 0; i < 10; i++) one.log.commit([['beds', `bed ${i}`]])
  const engine = await started(one)
  let opened = () => {}
  const view = new Promise<void>(resolve => (opened = resolve))
  let release = () => {}
  const held = new Promise<void>(resolve => (release = resolve))
  one.log.onView = opened
  const { side } = one.log
  const { view: open } = side
  side.view = async reader => {
    const opening = await open(reader)
    await held
    return opening
  }
  const followers = () => engineJournal(engine)
  await engine.deeds.recopy('p', [0])
  await view
  const own = () => one.target.state.checkpoint!.streams[0]!.lanes[0]!.own!.at
  const start = own()
  for (let i = 0; i < 30; i++) {
    one.log.commit([
      ['tools', `tool ${i}`],
      ['beds', `late ${i}`],
    ])
    await sleep(2)
  }
  await until(() => there(one, 'tools').length === 30)
  expect(followers()).toBe(start)
  release()
  await until(() => together(one) && equal(one))
  await until(() => followers() !== start)
  await engine.stop()
})

/** Up to where the pipeline needs nothing any more. */
function engineJournal(engine: unknown): string | undefined {
  const { journals } = (
    engine as { parts: { journals: { of(id: string): { info?: { followers: { position: string }[] } } } } }
  ).parts
  return journals.of('from').info?.followers[0]?.position
}

test('a copy that must wait for others at the source keeps nobody from pausing or ending', async () => {
  const one = bed()
  one.log.commit([['beds', 'bed']], [['tools', 'tool']])
  const engine = await started(one)
  const { view } = one.log.side
  one.log.side.view = (_reader, patience) =>
    new Promise((_, reject) => {
      patience!.tell({ message: 'A transaction is open.', remedy: 'End it.' })
      patience!.signal.addEventListener('abort', () =>
        reject(new Failure('transient', 'It was cancelled.', '')),
      )
    })
  const waits = async () => (await engine.status('p')).waits?.message
  const waiting = async () => {
    for (let tries = 0; (await waits()) !== 'A transaction is open.'; tries++) {
      if (tries > 1000) throw new Error('it did not say that it waits')
      await sleep(1)
    }
  }
  await engine.deeds.recopy('p', [0])
  await waiting()
  await engine.pause('p')
  await until(() => one.record.state === 'Paused')
  expect(await waits()).toBeUndefined()
  await engine.continue('p')
  await waiting()
  await engine.stop()
  one.log.side.view = view
  const next = one.engine()
  await next.start()
  await until(() => one.record.state === 'Following' && together(one) && equal(one))
  await next.stop()
})

test('a table that is added is copied while the others go on, and joins them', async () => {
  const one = bed()
  for (let i = 0; i < 20; i++) one.log.commit([['beds', `bed ${i}`]], [['tools', `tool ${i}`]])
  const engine = await started(one, LANES.slice(0, 1))
  let ranges = 0
  one.log.onRange = async () => {
    one.log.commit([
      ['beds', `while ${++ranges}`],
      ['tools', `while ${ranges}`],
    ])
    await until(() => there(one, 'beds').some(row => row.endsWith(` while ${ranges}`)))
  }
  await engine.extend('p', { lanes: LANES.slice(1), steps: [] })
  await until(
    () =>
      ranges > 6 &&
      one.target.state.checkpoint!.streams[0]!.lanes.length === 3 &&
      together(one) &&
      equal(one),
  )
  expect(one.record).toMatchObject({ state: 'Following', reason: null })
  expect(one.target.prepared).toBe(1)
  await engine.pause('p')
  await until(() => one.record.state === 'Paused')
  await engine.end('p')
  await until(() => one.record.state === 'Stopped')
  await expect(engine.extend('p', { lanes: LANES, steps: [] })).rejects.toMatchObject({ kind: 'refused' })
  await engine.stop()
})

test('added, copied again, paused, cut and killed at any moment, every lane ends up equal', async () => {
  const change = fc.tuple(
    fc.constantFrom(...NAMES),
    fc.option(fc.string({ unit: fc.constantFrom('a', 'b', 'c'), minLength: 1, maxLength: 3 }), { freq: 4 }),
    fc.constantFrom('1', '2', '3', '4', '5', '6', '7'),
  )
  const step = fc.oneof(
    { weight: 6, arbitrary: fc.record({ commit: fc.array(change, { minLength: 1, maxLength: 4 }) }) },
    { weight: 3, arbitrary: fc.record({ recopy: fc.subarray([0, 1, 2], { minLength: 1 }) }) },
    // Some stand still, and go on.
    { weight: 2, arbitrary: fc.record({ still: fc.subarray([0, 1, 2], { minLength: 1, maxLength: 2 }) }) },
    { weight: 2, arbitrary: fc.record({ goOn: fc.subarray([0, 1, 2]) }) },
    { weight: 1, arbitrary: fc.constant({ add: true }) },
    // Lanes are taken out, come back, and are copied again by another plan; the first one always stays.
    {
      weight: 2,
      arbitrary: fc.record({
        lanes: fc.subarray([1, 2]),
        again: fc.subarray([0, 1, 2]),
        over: fc.subarray([0, 1, 2]),
      }),
    },
    { weight: 1, arbitrary: fc.constant({ kill: true }) },
    { weight: 1, arbitrary: fc.constant({ pause: true }) },
    { weight: 3, arbitrary: fc.record({ wait: fc.integer({ min: 0, max: 8 }) }) },
  )
  const faults = fc.array(
    fc.constantFrom(undefined, undefined, undefined, undefined, 'before' as const, 'after' as const),
    { maxLength: 40 },
  )
  await fc.assert(
    fc.asyncProperty(
      fc.array(step, { maxLength: 30 }),
      faults,
      fc.array(fc.array(change, { minLength: 1, maxLength: 3 }), { maxLength: 10 }),
      async (steps, troubles, meanwhile) => {
        const left = [...troubles]
        let calm = true
        const one = bed(() => (calm ? undefined : left.shift()))
        for (let i = 0; i < 8; i++)
          one.log.commit([
            ['beds', `bed ${i}`],
            ['tools', `tool ${i}`],
          ])
        const changes = [...meanwhile]
        one.log.onRange = async () => {
          const next = changes.shift()
          if (!next) return
          one.log.commit(next as Logged)
          await sleep(changes.length % 4) // the others may land it meanwhile
        }
        let engine = await started(one, LANES.slice(0, 2))
        const add = async () => {
          // As the server asks for none that is there already.
          const isThere = one.record.lanes.some(({ source }) => source.name === LANES[2]!.source.name)
          if (!isThere) await engine.extend('p', { lanes: LANES.slice(2), steps: [] }).catch(refused)
        }
        const change = async (lanes: Lane[], again: readonly number[], over: readonly number[]) => {
          const { record } = one
          const places = lanes.map(lane =>
            record.lanes.findIndex(({ source }) => source.name === lane.source.name),
          )
          const fates = places.map((was, i): LaneChange => {
            if (was < 0) return { was: null, fate: 'copied' }
            return { was, fate: again.includes(i) ? 'copied again' : over.includes(i) ? 'filled' : 'stays' }
          })
          const gone = record.lanes.map((_, i) => i).filter(i => !places.includes(i))
          // What is left in a table that is followed no more is nobody's; a lane that comes back is emptied as it is made.
          const { definition } = record
          const planned = { lanes: fates, takenOut: gone }
          await engine.change('p', { definition, lanes, steps: emptying(fates, lanes), change: planned })
        }
        calm = false
        try {
          for (const each of steps) {
            if ('commit' in each) one.log.commit(each.commit as Logged)
            if ('wait' in each) await sleep(each.wait)
            // What is asked of a pipeline in another state is refused, and that is as well.
            if ('recopy' in each) await engine.deeds.recopy('p', each.recopy).catch(refused)
            if ('still' in each) await engine.deeds.pauseLanes('p', each.still).catch(refused)
            if ('goOn' in each) await engine.deeds.continueLanes('p', each.goOn).catch(refused)
            if ('add' in each) await add()
            if ('lanes' in each)
              await change(
                [0, ...each.lanes].map(place => LANES[place]!),
                each.again,
                each.over,
              ).catch(refused)
            if ('pause' in each) {
              await engine.pause('p').catch(refused)
              await sleep(1)
              await engine.continue('p').catch(refused)
            }
            if ('kill' in each) {
              await engine.stop()
              engine = one.engine()
              await engine.start()
            }
          }
          calm = true
          await until(() => one.record.state === 'Following')
          await until(() => one.record.change === null)
          // A recopy that waits is let begin before lanes move to other places.
          for (let tries = 0; one.record.lanes.length < 3; tries++) {
            if (tries > 400) throw new Error('the last change was never taken')
            await change(LANES, [], []).catch(refused)
            await sleep(5)
          }
          await until(() => one.record.change === null && one.record.state === 'Following')
          await engine.deeds.continueLanes('p', [])
          await until(() => together(one) && equal(one))
          expect(one.record.reason).toBeNull()
          expect(one.target.prepared).toBe(1)
        } finally {
          await engine.stop()
        }
      },
    ),
    { numRuns: 60 },
  )
})

/** The steps that make the tables of lanes that come, which the target in memory takes for emptying them. */
function emptying(fates: readonly LaneChange[], lanes: readonly Lane[]): PrepareStep[] {
  return lanes.flatMap(({ target }, i): PrepareStep[] =>
    fates[i]!.was === null ? [{ step: 'replace table', table: target, columns: [], key: [] }] : [],
  )
}

function refused(thrown: unknown): void {
  if (!(thrown instanceof Failure)) throw thrown
}

test('a lane that stands still gets nothing while the others go on; then it catches up, also over a restart', async () => {
  const one = bed()
  let engine = await started(one)
  await engine.deeds.pauseLanes('p', [0])
  const paused = () => one.target.state.checkpoint!.streams[0]!.lanes[0]!.paused !== undefined
  await until(paused)
  const before = there(one, 'beds')
  for (let i = 0; i < 30; i++)
    one.log.commit([
      ['beds', `bed ${i % 4}`, String(i)],
      ['tools', `tool ${i}`],
    ])
  await until(() => same(one, 'tools'))
  await engine.stop()
  engine = one.engine()
  await engine.start()
  one.log.commit([['tools', 'after the restart']])
  await until(() => same(one, 'tools') && one.record.state === 'Following')
  expect(there(one, 'beds')).toEqual(before)
  expect(one.target.state.checkpoint!.streams[0]!.consistent).toBe(false)
  const { lanes } = (await engine.statuses())[0]!
  expect(lanes.map(({ paused: still, detached }) => [still !== null, detached])).toEqual([
    [true, false],
    [false, false],
    [false, false],
  ])
  await engine.deeds.continueLanes('p', [0])
  await until(() => together(one) && equal(one))
  await expect(engine.deeds.pauseLanes('p', [0, 1, 2])).rejects.toMatchObject({ kind: 'refused' })
  await engine.stop()
})

test('a pipeline is not consistent before its lanes are together and the head is reached once more', () => {
  const position = (at: string) => ({ kind: 'postgres log', incarnation: 'one', at })
  const landing = (at: string, fetched = false): Landing => ({
    to: position(at),
    head: {
      now: '2026-11-20T10:00:00Z',
      completeUpTo: '2026-11-20T10:00:00Z',
      pendingChanges: 0,
      oldestPending: null,
      journalEnd: null,
    },
    changes: 0,
    oldest: null,
    newest: null,
    counts: new Map(),
    fetched,
  })
  const begun = singleStream(firstCheckpoint('p', 1, position('0/10'), { lanes: LANES, plan: 0 }, 0))
  const copied = { ...begun, lanes: begun.lanes.map(lane => ({ ...lane, copied: true })) }
  const following = withLanding(copied, landing('0/20'))
  expect(following.consistent).toBe(true)
  expect(withLanding(following, landing('0/30', true)).consistent).toBe(false)
  const apart = uncopied(following, [1])
  expect(withLanding(apart, landing('0/30')).consistent).toBe(false)
  expect(neededFrom(withLanding(apart, landing('0/30'))).at).toBe('0/20')
  const level = joined(withOwnLanding(withLanding(apart, landing('0/30')), landing('0/40')))
  expect(level.lanes[1]!.since!.at).toBe('0/40')
  expect(level.consistent).toBe(false)
  expect(withLanding(level, landing('0/40')).consistent).toBe(true)
  // With all of them there is nobody to go on meanwhile.
  expect(detachedLanes(uncopied(following, [0, 1, 2]))).toEqual([])
  // What came before a lane's own beginning was not captured, and it must not be looked for.
  const late = {
    ...following,
    lanes: following.lanes.map((lane, i) => (i === 1 ? { ...lane, since: position('0/90') } : lane)),
  }
  expect(uncopied(late, [1]).lanes[1]).toMatchObject({ since: position('0/90'), own: position('0/90') })
  expect(uncopied(late, [0, 1, 2]).lanes.map(({ since }) => since?.at)).toEqual([
    undefined,
    '0/90',
    undefined,
  ])
  expect(uncopied(late, [0]).lanes[0]).toMatchObject({ since: null, own: following.position })
})
