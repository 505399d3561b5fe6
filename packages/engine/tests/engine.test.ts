import { asReplication } from '@tide/core/definition/definition'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { Stream } from '@tide/core/checkpoint/checkpoint'
import { Failure } from '@tide/core/failure'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Engine } from '../src/engine.ts'
import { firstCheckpoint, SharedCheckpoint } from '../src/shapes/replicate/checkpoint.ts'
import { MemoryLog } from './memory-log.ts'
import { MemoryTarget, sessionOf, troubledLog, type Trouble } from './memory-systems.ts'
import { Frost, laneOf, settled, world as worldOf } from './world.ts'

const LANE = laneOf('nursery', 't')

let folder: string
let worlds = 0
beforeAll(() => void (folder = mkdtempSync(join(tmpdir(), 'constant-tide-engine-'))))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** A source that answers at once. */
function newLog(): MemoryLog {
  const log = new MemoryLog()
  log.rest = () => new Promise(resolve => setImmediate(resolve))
  return log
}

const world = (log: MemoryLog, target: MemoryTarget, trouble: Trouble) => {
  const side = troubledLog(log, trouble)
  return worldOf(
    { from: () => sessionOf({ log: side }), to: () => sessionOf({ target: target.side(trouble) }) },
    join(folder, String(worlds++)),
  )
}

const wantedRows = (log: MemoryLog) => [...log.rowsOf('t')].sort()
const isEqual = (log: MemoryLog, target: MemoryTarget) =>
  JSON.stringify(rowsOf(target)) === JSON.stringify(wantedRows(log))
const rowsOf = (target: MemoryTarget) => target.state.rows.map(([, row]) => [...row]).sort()
const change = fc.record({
  key: fc.integer({ min: 10, max: 29 }),
  value: fc.integer({ min: 0, max: 9 }),
  remove: fc.boolean(),
})
const history = fc.array(fc.array(change, { minLength: 1, maxLength: 5 }), { maxLength: 25 })
const first = fc.uniqueArray(fc.integer({ min: 10, max: 29 }), { maxLength: 14 })

describe('engine', () => {
  test('whatever call fails, before or after its work, both sides end up equal', async () => {
    const faults = fc.array(
      fc.constantFrom(undefined, undefined, undefined, 'before' as const, 'after' as const),
      { maxLength: 80 },
    )
    await fc.assert(
      fc.asyncProperty(
        first,
        history,
        faults,
        fc.integer({ min: 0, max: 60 }),
        async (keys, transactions, troubles, restartAt) => {
          const [log, target] = [newLog(), new MemoryTarget()]
          log.commit(keys.map(key => ['t', 'old', String(key)]))
          const waiting = [...transactions]
          const goOn = () => {
            const changes = waiting.shift()
            if (changes)
              log.commit(
                changes.map(({ key, value, remove }) => ['t', remove ? null : `v${value}`, String(key)]),
              )
          }
          log.onRange = goOn
          let calls = 0
          const faults = [...troubles]
          const { record, engine: make } = world(log, target, () => {
            calls++
            if (calls % 3 === 0) goOn()
            return faults.shift()
          })
          let engine = make()
          try {
            await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
            // Somewhere on the way the process is gone, and another one takes over.
            await settled(() => calls >= restartAt || (waiting.length === 0 && record.state === 'Following'))
            await engine.stop()
            engine = make()
            await engine.start()
            await settled(() => {
              goOn()
              const at = target.state.checkpoint?.streams[0]!.position.at
              const reached = record.state === 'Following' && at === log.end.at
              return waiting.length === 0 && reached && isEqual(log, target)
            })
            expect(record.state).toBe('Following')
          } finally {
            await engine.stop()
          }
        },
      ),
      { numRuns: 150 },
    )
  })

  test('a recopy empties and copies again; what comes meanwhile is not lost', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    for (let key = 10; key < 25; key++) log.commit([['t', 'old', String(key)]])
    const { record, engine: make, errands } = world(log, target, () => undefined)
    const engine = make()
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following' && target.state.rows.length === 15)
    target.state.rows.push(['t/stray', ['stray', 'left by somebody']])
    let turns = 0
    log.onRange = () => {
      if (turns++ < 8) log.commit([['t', `while ${turns}`, String(10 + turns)]])
    }
    await engine.inTurn('p', () => engine.deeds.recopy('p', []))
    await settled(() => turns > 4 && isEqual(log, target))
    expect(target.prepared).toBe(1)
    expect(errands).toMatchObject([
      { kind: 'recopy', lanes: [0], state: 'done', outcome: 'Emptied nursery.t, to be copied again.' },
    ])
    await engine.stop()
  })

  test('who was overtaken stops, with the reason', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    const { record, engine: make } = world(log, target, () => undefined)
    const engine = make()
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    target.state.checkpoint!.epoch = 99
    log.commit([['t', 'late', '10']])
    await settled(() => record.state === 'Stopped')
    expect(record.reason).toMatchObject({ kind: 'structural', message: 'overtaken' })
    expect(rowsOf(target)).toEqual([])
    await engine.stop()
  })

  test('who is killed is followed by another engine; who was frozen too long finds it taken and ends', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    const { record, partsOf } = world(log, target, () => undefined)
    const frost = new Frost()
    const [one, other] = [new Engine(partsOf('one', frost)), new Engine(partsOf('other'))]
    await one.start()
    await one.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    const first = record.holder
    await other.start()
    log.commit([['t', 'by the first', '10']])
    await settled(() => rowsOf(target).length === 1)
    expect(record.holder).toBe(first) // it is not taken from one that is there
    frost.freeze()
    // Only what waits is frozen: the first may still land what was read already.
    await settled(() => record.holder !== first)
    log.commit([['t', 'by the second', '11']])
    await settled(() => rowsOf(target).length === 2)
    const { epoch } = target.state.checkpoint!
    frost.thaw()
    log.commit([['t', 'after the thaw', '12']])
    await settled(() => rowsOf(target).length === 3)
    expect(record).toMatchObject({ state: 'Following', reason: null })
    expect(record.holder).not.toBe(first)
    expect(target.state.checkpoint!.epoch).toBe(epoch)
    await Promise.all([one.stop(), other.stop()])
  })

  test('asked again and again, an engine never gives away what is its share', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    const { record, partsOf } = world(log, target, () => undefined)
    const [one, other] = [new Engine(partsOf('one')), new Engine(partsOf('other'))]
    await one.start()
    await other.start()
    await one.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    const { holder, epoch } = record
    for (let i = 0; i < 300; i++) await new Promise(resolve => setImmediate(resolve))
    expect(record).toMatchObject({ holder, epoch, state: 'Following' })
    await Promise.all([one.stop(), other.stop()])
  })

  test('a pipeline that is tied to a data folder waits for it, and goes on there', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    const { record, partsOf } = world(log, target, () => undefined)
    const [one, other] = [new Engine(partsOf('one')), new Engine(partsOf('other'))]
    await one.start()
    await other.start()
    await one.begin('p', { definition: record.definition, lanes: [LANE], steps: [] }, [
      { home: 'one', affinity: 'the journal of from' },
    ])
    await settled(() => record.state === 'Following')
    await one.stop()
    log.commit([['t', 'waits', '10']])
    for (let i = 0; i < 200; i++) await new Promise(resolve => setImmediate(resolve))
    expect(record.holder).toBeNull()
    expect(rowsOf(target)).toEqual([])
    const again = new Engine(partsOf('one'))
    await again.start()
    await settled(() => rowsOf(target).length === 1)
    await Promise.all([again.stop(), other.stop()])
  })

  test('a checkpoint that vanished from the target stops the pipeline; nothing is prepared over what is there', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    const { record, engine: make } = world(log, target, () => undefined)
    const first = make()
    await first.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    await first.stop()
    target.state.checkpoint = undefined
    const second = make()
    await second.start()
    await settled(() => record.state === 'Stopped')
    expect(record.reason).toMatchObject({
      kind: 'structural',
      message: expect.stringContaining('checkpoint of this pipeline is gone'),
    })
    expect(target.prepared).toBe(1)
    await second.stop()
  })

  test('a store that fails for a while ends neither the run nor the process', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    const { record, partsOf } = world(log, target, () => undefined)
    const parts = partsOf('home')
    const engine = new Engine(parts)
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    const { setState } = parts.pipelines
    let refusals = 3
    parts.pipelines.setState = async (...change) => {
      if (refusals-- > 0) throw new Error('the store is away')
      return setState(...change)
    }
    parts.history.log = () => Promise.reject(new Error('the store is away'))
    target.state.checkpoint!.epoch = 99
    log.commit([['t', 'late', '10']])
    await settled(() => record.state === 'Stopped')
    expect(refusals).toBeLessThan(0)
    await engine.stop()
  })

  test('paused, it measures and lands nothing; stopped, it takes itself off', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    const { record, engine: make } = world(log, target, () => undefined)
    const engine = make()
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    await engine.pause('p')
    await settled(() => record.state === 'Paused')
    log.commit([1, 2, 3].map(n => ['t', 'waits', `1${n}`]))
    for (let i = 0; i < 200 && (await engine.status('p')).backlog !== 3; i++)
      await new Promise(resolve => setImmediate(resolve))
    expect((await engine.status('p')).backlog).toBe(3)
    expect(rowsOf(target)).toEqual([])
    await engine.continue('p')
    await settled(() => target.state.rows.length === 3)
    await expect(
      engine
        .continue('nobody')
        .then(() => engine.begin('p', { definition: record.definition, lanes: [], steps: [] })),
    ).rejects.toMatchObject({ kind: 'refused' })
    await engine.end('p')
    await settled(() => record.state === 'Stopped')
    expect(record.reason!.kind).toBe('person')
    expect(target.state.checkpoint).toBeUndefined()
    expect(target.state.rows).toHaveLength(3)
    await engine.stop()
  })

  test('what nobody has foreseen is tried a few times, then stops with what a report needs', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    let broken = false
    const trouble = () => {
      if (broken) throw new TypeError('rows.slice is not a function')
      return undefined
    }
    const { record, partsOf } = worldOf(
      { from: () => sessionOf({ log: log.side }), to: () => sessionOf({ target: target.side(trouble) }) },
      join(folder, String(worlds++)),
    )
    const parts = partsOf('home')
    const told: string[] = []
    parts.history.log = async ({ message }) => void told.push(message)
    const engine = new Engine(parts)
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    broken = true
    log.commit([['t', 'never lands', '10']])
    await settled(() => record.state === 'Stopped')
    expect(record.reason).toMatchObject({ kind: 'fault', message: 'rows.slice is not a function' })
    await settled(() =>
      told.some(line => line.startsWith('Report: Following, 1 of 1 lanes copied, at 0/100')),
    )
    expect(told.find(line => line.startsWith('Report'))).toContain('TypeError: rows.slice')
    expect(told.filter(line => line === 'rows.slice is not a function').length).toBeLessThan(4)
    await engine.stop()
  })

  test('a target that wants changes gathered gets them together: so many, or after so long', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    target.gathering = { changes: 4, waitMs: 60_000 }
    const { record, engine: make } = world(log, target, () => undefined)
    const engine = make()
    const at = () => target.state.checkpoint?.streams[0]!.position.at
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following' && at() === log.end.at)
    const seen = new Set<number>()
    engine.onChange(() => seen.add(target.state.rows.length))
    for (const key of [10, 11, 12]) log.commit([['t', 'waits', String(key)]])
    for (let i = 0; i < 200; i++) await new Promise(resolve => setImmediate(resolve))
    expect(target.state.rows).toHaveLength(0)
    log.commit([['t', 'the fourth', '13']])
    await settled(() => target.state.rows.length === 4)
    seen.forEach(rows => expect([0, 4]).toContain(rows))
    // Alone, one waits until its time is up.
    log.commit([['t', 'alone', '14']])
    for (let i = 0; i < 200; i++) await new Promise(resolve => setImmediate(resolve))
    expect(target.state.rows).toHaveLength(4)
    target.gathering.waitMs = 1
    await settled(() => target.state.rows.length === 5)
    await engine.stop()
  })

  test('what was said of its speed goes before what the target wants', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    const { record, engine: make } = world(log, target, () => undefined)
    record.definition = { ...asReplication(record.definition), speed: { changes: 3, waits: 60 } }
    const engine = make()
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    for (const key of [10, 11]) log.commit([['t', 'waits', String(key)]])
    for (let i = 0; i < 200; i++) await new Promise(resolve => setImmediate(resolve))
    expect(target.state.rows).toHaveLength(0)
    log.commit([['t', 'the third', '12']])
    await settled(() => target.state.rows.length === 3)
    await engine.stop()
  })

  test('changes go on landing while the rows of a large table are counted', async () => {
    const [log, target] = [newLog(), new MemoryTarget()]
    const counting: (() => void)[] = []
    let held = true
    const { record, engine: make } = worldOf(
      {
        from: () => sessionOf({ log: log.side }),
        to: () => {
          const side = target.side(() => undefined)
          const count = () =>
            held ? new Promise<number>(resolve => counting.push(() => resolve(7))) : Promise.resolve(7)
          return sessionOf({ target: { ...side, count } })
        },
      },
      join(folder, String(worlds++)),
    )
    const engine = make()
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => counting.length > 0)
    log.commit([['t', 'meanwhile', '10']])
    await settled(() => target.state.rows.length === 1)
    held = false
    for (const resolve of counting) resolve()
    const status = async () => (await engine.status('p')).lanes[0]!.rowsThere
    for (let i = 0; i < 200 && (await status()) !== 7; i++)
      await new Promise(resolve => setImmediate(resolve))
    expect(await status()).toBe(7)
    await engine.stop()
  })
})

describe('a checkpoint that several write', () => {
  test('is written no more when it is not known whether a write went through', async () => {
    const first = firstCheckpoint(
      'p',
      1,
      { kind: 'postgres log', incarnation: 'one', at: '0/0' },
      { lanes: [LANE, LANE], plan: 0 },
      0,
    )
    const shared = new SharedCheckpoint(first)
    let there = first
    const lane = (index: number, rows: number) => (now: Stream) => ({
      ...now,
      lanes: now.lanes.map((lane, i) => (i === index ? { ...lane, begun: true, copiedRows: rows } : lane)),
    })
    const cut = new Failure('transient', 'the connection was cut', 'wait')
    // The commit went through, and its answer was lost.
    const lost = shared.commit(lane(0, 50), async next => {
      there = next
      throw cut
    })
    await expect(lost).rejects.toBe(cut)
    // A neighbour knows nothing of these rows, and must not write over them.
    const neighbour = shared.commit(lane(1, 3), async next => void (there = next))
    await expect(neighbour).rejects.toMatchObject({
      kind: 'transient',
      message: expect.stringMatching(/not known/),
    })
    expect(there.streams[0]!.lanes.map(({ copiedRows }) => copiedRows)).toEqual([50, 0])
  })
})
