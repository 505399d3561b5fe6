import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { Checkpoint } from '@tide/connectors/contract'
import { Failure } from '@tide/core/failure'
import { firstCheckpoint, SharedCheckpoint } from '../src/checkpoint.ts'
import { Engine } from '../src/engine.ts'
import { MemorySource, MemoryTarget, sessionOf, type Trouble } from './memory-systems.ts'
import { Frost, laneOf, settled, world as worldOf } from './world.ts'

const LANE = laneOf('s', 't')

const world = (source: MemorySource, target: MemoryTarget, trouble: Trouble) =>
  worldOf({
    from: () => sessionOf({ source: source.side(trouble) }),
    to: () => sessionOf({ target: target.side(trouble) }),
  })

const rowsOf = (target: MemoryTarget) => target.state.rows.map(([, row]) => [...row]).sort()
const change = fc.record({
  key: fc.integer({ min: 10, max: 29 }),
  value: fc.integer({ min: 0, max: 9 }),
  remove: fc.boolean(),
})
const history = fc.array(fc.array(change, { minLength: 1, maxLength: 5 }), { maxLength: 25 })
const beginning = fc.uniqueArray(fc.integer({ min: 10, max: 29 }), { maxLength: 14 })

describe('engine', () => {
  test('whatever call fails, before or after its work, both sides end up equal', async () => {
    const faults = fc.array(
      fc.constantFrom(undefined, undefined, undefined, 'before' as const, 'after' as const),
      { maxLength: 80 },
    )
    await fc.assert(
      fc.asyncProperty(
        beginning,
        history,
        faults,
        fc.integer({ min: 0, max: 60 }),
        async (keys, transactions, troubles, restartAt) => {
          const [source, target] = [new MemorySource(), new MemoryTarget()]
          keys.forEach(key => source.rows.set(String(key), [String(key), 'old']))
          const waiting = [...transactions]
          source.onTurn = () => {
            const changes = waiting.shift()
            if (changes)
              source.commit((put, remove) =>
                changes.forEach(({ key, value, remove: gone }) =>
                  gone ? remove(String(key)) : put([String(key), `v${value}`]),
                ),
              )
          }
          let calls = 0
          const faults = [...troubles]
          const { record, engine: make } = world(source, target, () => {
            calls++
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
              const expected = [...source.rows.values()].map(row => [...row]).sort()
              const { checkpoint } = target.state
              const atHead = checkpoint?.consistent && checkpoint.position.at === String(source.log.length)
              return (
                waiting.length === 0 &&
                Boolean(atHead) &&
                JSON.stringify(rowsOf(target)) === JSON.stringify(expected)
              )
            })
            expect(record.state).toBe('Following')
          } finally {
            await engine.stop()
          }
        },
      ),
      { numRuns: 500 },
    )
  })

  test('a recopy empties and copies again; what comes meanwhile is not lost', async () => {
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    for (let key = 10; key < 25; key++) source.rows.set(String(key), [String(key), 'old'])
    const { record, engine: make } = world(source, target, () => undefined)
    const engine = make()
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following' && target.state.rows.length === 15)
    target.state.rows.push(['t/stray', ['stray', 'left by somebody']])
    let turns = 0
    source.onTurn = () => {
      if (turns++ < 8) source.commit(put => put([String(10 + turns), `while ${turns}`]))
    }
    await engine.inTurn('p', () => engine.recopy('p', []))
    await settled(
      () =>
        turns > 8 &&
        JSON.stringify(rowsOf(target)) ===
          JSON.stringify([...source.rows.values()].map(row => [...row]).sort()),
    )
    expect(target.prepared).toBe(1)
    await engine.stop()
  })

  test('who was overtaken stops, with the reason', async () => {
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    const { record, engine: make } = world(source, target, () => undefined)
    const engine = make()
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    target.state.checkpoint!.epoch = 99
    source.commit(put => put(['10', 'late']))
    await settled(() => record.state === 'Stopped')
    expect(record.reason).toMatchObject({ kind: 'structural', message: 'overtaken' })
    expect(rowsOf(target)).toEqual([])
    await engine.stop()
  })

  test('who is killed is followed by another engine; who was frozen too long finds it taken and ends', async () => {
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    const { record, partsOf } = world(source, target, () => undefined)
    const frost = new Frost()
    const [one, other] = [new Engine(partsOf('one', frost)), new Engine(partsOf('other'))]
    await one.start()
    await one.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    const first = record.holder
    await other.start()
    source.commit(put => put(['10', 'by the first']))
    await settled(() => rowsOf(target).length === 1)
    expect(record.holder).toBe(first) // it is not taken from one that is there
    frost.freeze()
    source.commit(put => put(['11', 'by the second']))
    await settled(() => rowsOf(target).length === 2)
    expect(record.holder).not.toBe(first)
    const { epoch } = target.state.checkpoint!
    frost.thaw()
    source.commit(put => put(['12', 'after the thaw']))
    await settled(() => rowsOf(target).length === 3)
    expect(record).toMatchObject({ state: 'Following', reason: null })
    expect(record.holder).not.toBe(first)
    expect(target.state.checkpoint!.epoch).toBe(epoch)
    await Promise.all([one.stop(), other.stop()])
  })

  test('asked again and again, an engine never gives away what is its share', async () => {
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    const { record, partsOf } = world(source, target, () => undefined)
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
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    const { record, partsOf } = world(source, target, () => undefined)
    const [one, other] = [new Engine(partsOf('one')), new Engine(partsOf('other'))]
    await one.start()
    await other.start()
    await one.begin(
      'p',
      { definition: record.definition, lanes: [LANE], steps: [] },
      { home: 'one', tie: 'the journal of from' },
    )
    await settled(() => record.state === 'Following')
    await one.stop()
    source.commit(put => put(['10', 'waits']))
    for (let i = 0; i < 200; i++) await new Promise(resolve => setImmediate(resolve))
    expect(record.holder).toBeNull()
    expect(rowsOf(target)).toEqual([])
    const again = new Engine(partsOf('one'))
    await again.start()
    await settled(() => rowsOf(target).length === 1)
    await Promise.all([again.stop(), other.stop()])
  })

  test('a checkpoint that vanished from the target stops the pipeline; nothing is prepared over what is there', async () => {
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    const { record, engine: make } = world(source, target, () => undefined)
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
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    const { record, partsOf } = world(source, target, () => undefined)
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
    source.commit(put => put(['10', 'late']))
    await settled(() => record.state === 'Stopped')
    expect(refusals).toBeLessThan(0)
    await engine.stop()
  })

  test('paused, it measures and lands nothing; stopped, it takes itself off', async () => {
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    const { record, engine: make } = world(source, target, () => undefined)
    const engine = make()
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    await engine.pause('p')
    await settled(() => record.state === 'Paused')
    source.commit(put => [1, 2, 3].forEach(n => put([`1${n}`, 'waits'])))
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
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    let broken = false
    const { record, partsOf } = world(source, target, () => {
      if (broken) throw new TypeError('rows.slice is not a function')
      return undefined
    })
    const parts = partsOf('home')
    const told: string[] = []
    parts.history.log = async ({ message }) => void told.push(message)
    const engine = new Engine(parts)
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => record.state === 'Following')
    broken = true
    await settled(() => record.state === 'Stopped')
    expect(record.reason).toMatchObject({ kind: 'fault', message: 'rows.slice is not a function' })
    await settled(() => told.some(line => line.startsWith('Report: Following, 1 of 1 lanes copied, at 0')))
    expect(told.find(line => line.startsWith('Report'))).toContain('TypeError: rows.slice')
    expect(told.filter(line => line === 'rows.slice is not a function').length).toBeLessThan(4)
    await engine.stop()
  })

  test('changes go on landing while the rows of a large table are counted', async () => {
    const [source, target] = [new MemorySource(), new MemoryTarget()]
    const counting: (() => void)[] = []
    let held = true
    const { record, engine: make } = worldOf({
      from: () => sessionOf({ source: source.side(() => undefined) }),
      to: () => {
        const side = target.side(() => undefined)
        const count = () =>
          held ? new Promise<number>(resolve => counting.push(() => resolve(7))) : Promise.resolve(7)
        return sessionOf({ target: { ...side, count } })
      },
    })
    const engine = make()
    await engine.begin('p', { definition: record.definition, lanes: [LANE], steps: [] })
    await settled(() => counting.length > 0)
    source.commit(put => put(['10', 'meanwhile']))
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
    const first = firstCheckpoint('p', 1, { kind: 'memory', incarnation: 'one', at: '0' }, [LANE, LANE], 0)
    const shared = new SharedCheckpoint(first)
    let there = first
    const lane = (place: number, rows: number) => (now: Checkpoint) => ({
      ...now,
      lanes: now.lanes.map((lane, i) => (i === place ? { ...lane, begun: true, copiedRows: rows } : lane)),
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
    expect(there.lanes.map(({ copiedRows }) => copiedRows)).toEqual([50, 0])
  })
})
