/** Rows that the target will not take: held one by one, while everything else lands, in whatever company they come. */
import { asReplication } from '@tide/core/definition/definition'
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals'
import type { HeldDeed } from '@tide/core/definition/held'
import type { Row } from '@tide/core/records/value'
import fc from 'fast-check'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { MemoryLog, type Logged } from './memory-log.ts'
import { MemoryTarget, sessionOf, troubledLog, type Trouble } from './memory-systems.ts'
import { laneOf, settled, world as worldOf } from './world.ts'

const LANES = [laneOf('nursery', 't'), laneOf('nursery', 'u')]

let folder: string
let worlds = 0
beforeAll(() => void (folder = mkdtempSync(join(tmpdir(), 'constant-tide-held-'))))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

function bed(trouble: Trouble = () => undefined) {
  const [log, target] = [new MemoryLog(), new MemoryTarget()]
  log.rest = () => new Promise(resolve => setImmediate(resolve))
  const side = troubledLog(log, trouble)
  const row = async (table: { dataset: { name: string } }, [key]: readonly string[]): Promise<Row | null> => {
    const value = log.rowsOf(table.dataset.name).get(key!)
    return value === undefined ? null : [key!, value]
  }
  const from = () => ({ ...sessionOf({ log: side }), row }) as ReturnType<typeof sessionOf>
  const to = () => sessionOf({ target: target.side(trouble) })
  const made = worldOf({ from, to }, join(folder, String(worlds++)))
  return { log, target, ...made, engine: made.engine(), engineAgain: () => made.engine() }
}

type Bed = ReturnType<typeof bed>

const there = ({ target }: Bed) => target.state.rows.map(([, row]) => [...row].join(' ')).sort()
const wanted = ({ log }: Bed) =>
  LANES.flatMap(({ source }) => [...log.rowsOf(source.name)].map(row => row.join(' '))).sort()
const stream = ({ target }: Bed) => target.state.checkpoint?.streams[0]
const atHead = (one: Bed) => one.record.state === 'Following' && stream(one)?.position.at === one.log.end.at
const noBad = (rows: MemoryTarget['state']['rows']) => {
  const bad = rows.find(([, row]) => row[1]?.startsWith('bad'))
  return bad && `the value ${bad[1][1]} does not fit`
}
const unique = (rows: MemoryTarget['state']['rows']) => {
  const values = new Set<string>()
  for (const [id, row] of rows) {
    const value = `${id.split('/')[0]} ${row[1]}`
    if (values.has(value)) return `“${row[1]}” is there already`
    values.add(value)
  }
  return undefined
}

async function started(one: Bed) {
  await one.engine.begin('p', { definition: one.record.definition, lanes: LANES, steps: [] })
  await settled(() => atHead(one))
}

async function settle(one: Bed, held: HeldDeed) {
  await one.engine.deeds.settleHeld('p', held)
  await settled(() => Boolean(one.errands.at(-1)?.endedAt))
  return one.errands.at(-1)!
}

const change = fc.record({
  table: fc.constantFrom('t', 'u'),
  key: fc.integer({ min: 10, max: 17 }),
  value: fc.integer({ min: 0, max: 9 }),
  bad: fc.integer({ min: 0, max: 3 }).map(n => n === 0),
  remove: fc.integer({ min: 0, max: 4 }).map(n => n === 0),
})
const transactions = fc.array(fc.array(change, { minLength: 1, maxLength: 6 }), {
  minLength: 1,
  maxLength: 14,
})
const logged = ({
  table,
  key,
  value,
  bad,
  remove,
}: typeof change extends fc.Arbitrary<infer T> ? T : never) =>
  [table, remove ? null : `${bad ? 'bad' : 'v'}${value}`, `${table}${key}`] as Logged[number]

test('whatever does not fit, wherever a call fails: all else lands, each misfit is held, and lands when it fits', async () => {
  const faults = fc.array(
    fc.constantFrom(undefined, undefined, undefined, 'before' as const, 'after' as const),
    {
      maxLength: 40,
    },
  )
  await fc.assert(
    fc.asyncProperty(transactions, faults, async (life, troubles) => {
      const faults: (typeof troubles)[number][] = []
      const one = bed(() => faults.shift())
      one.target.refuses = noBad
      one.log.commit([['t', 'old', 't10']])
      await started(one)
      faults.push(...troubles)
      for (const changes of life) {
        one.log.commit(changes.map(logged))
        if (changes.length % 2 === 0) await new Promise(resolve => setImmediate(resolve))
      }
      const isBad = (row: string) => row.split(' ')[1]!.startsWith('bad')
      const badKeys = wanted(one)
        .filter(isBad)
        .map(row => row.split(' ')[0]!)
      const others = (rows: string[]) => rows.filter(row => !badKeys.includes(row.split(' ')[0]!))
      await settled(
        () => atHead(one) && JSON.stringify(others(there(one))) === JSON.stringify(others(wanted(one))),
      )
      await settled(
        () => new Set(one.held.open.map(({ identity }) => identity[0])).size === new Set(badKeys).size,
      )
      expect([...new Set(one.held.open.map(({ identity }) => identity[0]!))].sort()).toEqual(
        [...badKeys].sort(),
      )
      const differing = stream(one)!.lanes.reduce((sum, { differs }) => sum + (differs ?? 0), 0)
      expect(differing).toBe(badKeys.length)
      expect(stream(one)!.consistent).toBe(badKeys.length === 0 && stream(one)!.consistent)
      // The cause is mended, and all are tried again.
      one.target.refuses = () => undefined
      if (badKeys.length > 0) {
        const { state } = await settle(one, { deed: 'retry', ids: one.held.open.map(({ id }) => id) })
        expect(state).toBe('done')
      }
      await settled(() => JSON.stringify(there(one)) === JSON.stringify(wanted(one)))
      expect(one.held.open).toEqual([])
      await settled(() => atHead(one) && stream(one)!.consistent)
      await one.engine.stop()
    }),
    { numRuns: 80 },
  )
}, 60_000)

test('rows that do not fit are held when they are copied, too, and all others are copied', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.uniqueArray(fc.integer({ min: 10, max: 40 }), { minLength: 1, maxLength: 20 }),
      fc.func(fc.boolean()),
      fc.boolean(),
      async (keys, isBad, again) => {
        const one = bed()
        one.target.refuses = noBad
        if (again) {
          one.log.commit([['u', 'old', 'u10']])
          await started(one)
        }
        one.log.commit(keys.map(key => ['t', `${isBad(key) ? 'bad' : 'v'}${key}`, `t${key}`]))
        const bad = keys.filter(key => isBad(key)).map(key => `t${key}`)
        if (again) {
          await settled(() => atHead(one))
          await one.engine.deeds.recopy('p', [0])
          await settled(() => Boolean(one.errands.at(-1)?.endedAt))
        } else await one.engine.begin('p', { definition: one.record.definition, lanes: LANES, steps: [] })
        const good = () => wanted(one).filter(row => !bad.includes(row.split(' ')[0]!))
        await settled(
          () =>
            atHead(one) &&
            stream(one)!.lanes.every(({ copied, own }) => copied && !own) &&
            JSON.stringify(there(one)) === JSON.stringify(good()),
        )
        expect([...new Set(one.held.open.map(({ identity }) => identity[0]!))].sort()).toEqual(
          [...bad].sort(),
        )
        if (bad.length > 0) {
          one.target.refuses = () => undefined
          await settle(one, { deed: 'retry', ids: one.held.open.map(({ id }) => id) })
        }
        await settled(() => JSON.stringify(there(one)) === JSON.stringify(wanted(one)))
        await one.engine.stop()
      },
    ),
    { numRuns: 40 },
  )
}, 60_000)

test('rows that trade a unique value land together; of one that is in the way of another only that is held', async () => {
  const one = bed()
  one.log.commit([
    ['t', 'a', 't10'],
    ['t', 'b', 't11'],
    ['t', 'c', 't12'],
  ])
  await started(one)
  one.target.refuses = rows => noBad(rows) ?? unique(rows)
  one.log.commit([
    ['t', 'b', 't10'],
    ['t', 'a', 't11'],
    ['t', 'bad', 't13'],
    ['u', 'good', 'u10'],
  ])
  await settled(() => atHead(one))
  expect(there(one)).toEqual(['t10 b', 't11 a', 't12 c', 'u10 good'])
  expect(one.held.open.map(({ identity, reason }) => [identity[0], reason])).toEqual([
    ['t13', 'the value bad does not fit'],
  ])
  await one.engine.stop()
})

test('later changes of a row are held behind it in order; one that fits takes their place', async () => {
  const one = bed()
  one.target.refuses = noBad
  one.log.commit([['t', 'a', 't10']])
  await started(one)
  for (const value of ['bad 1', 'bad 2', 'bad 3']) {
    one.log.commit([['t', value, 't10']])
    await settled(() => one.held.open.at(-1)?.source.v === value)
  }
  expect(one.held.open.map(({ source, shaped }) => [source.v, shaped!.v])).toEqual(
    ['bad 1', 'bad 2', 'bad 3'].map(v => [v, v]),
  )
  expect(there(one)).toEqual(['t10 a'])
  one.log.commit([['t', 'fits', 't10']])
  await settled(() => there(one)[0] === 't10 fits')
  await settled(() => one.held.open.length === 0)
  expect(one.held.records.map(({ state }) => state)).toEqual(['superseded', 'superseded', 'superseded'])
  await settled(() => stream(one)!.consistent)
  await one.engine.stop()
})

test('a row is corrected, not by what still does not fit; one that is let be differs until a later change lands', async () => {
  const one = bed()
  one.target.refuses = noBad
  one.log.commit([['t', 'a', 't10']], [['t', 'a', 't11']])
  await started(one)
  one.log.commit([['t', 'bad', 't10']], [['t', 'bad', 't11']])
  await settled(() => one.held.open.length === 2)
  const [first, second] = one.held.open.map(({ id }) => id) as [number, number]
  const worse = await settle(one, { deed: 'correct', ids: [first], values: { v: 'bad still' } })
  expect(worse).toMatchObject({ state: 'refused', outcome: expect.stringContaining('It still does not fit') })
  const unknown = await settle(one, { deed: 'correct', ids: [first], values: { w: 'x' } })
  expect(unknown).toMatchObject({ state: 'refused', outcome: expect.stringContaining('no column w') })
  expect(there(one)).toEqual(['t10 a', 't11 a'])
  await settle(one, { deed: 'correct', ids: [first], values: { v: 'mended' } })
  expect(there(one)).toEqual(['t10 mended', 't11 a'])
  const dropped = await settle(one, { deed: 'drop', ids: [second], note: 'a test of the pumps' })
  expect(dropped.outcome).toBe('1 row let be: a test of the pumps')
  expect(one.held.records.map(({ state }) => state)).toEqual(['corrected', 'dropped'])
  expect(stream(one)).toMatchObject({ consistent: false, lanes: [{ differs: 1 }, {}] })
  one.log.commit([['t', 'b', 't11']])
  await settled(() => there(one).join() === 't10 mended,t11 b')
  await settled(() => stream(one)!.consistent)
  await one.engine.stop()
})

test('a row that is gone at the source is closed when it is tried again; a recopy closes all of its lane', async () => {
  const one = bed()
  one.target.refuses = noBad
  one.log.commit([['t', 'a', 't10']])
  await started(one)
  one.log.commit([['t', 'bad', 't10']], [['u', 'bad', 'u10']])
  await settled(() => one.held.open.length === 2)
  one.target.refuses = () => undefined
  await one.engine.deeds.recopy('p', [1])
  await settled(() => one.held.open.length === 1 && there(one).join() === 't10 a,u10 bad')
  await one.engine.pause('p')
  await settled(() => one.record.state === 'Paused')
  one.log.commit([['t', null, 't10']])
  const { outcome } = await settle(one, { deed: 'retry', ids: one.held.open.map(({ id }) => id) })
  expect(outcome).toBe('1 row gone at the source by now')
  expect(there(one)).toEqual(['u10 bad'])
  await one.engine.stop()
})

test('beyond what may be held a lane stands still with the reason, while the others go on; mended, it catches up', async () => {
  const one = bed()
  one.record.definition = { ...asReplication(one.record.definition), held: { most: 2 } }
  one.target.refuses = noBad
  one.log.commit([['t', 'a', 't10']])
  await started(one)
  one.log.commit([
    ['t', 'bad', 't11'],
    ['t', 'bad', 't12'],
  ])
  await settled(() => one.held.open.length === 2)
  one.log.commit([
    ['t', 'bad', 't13'],
    ['t', 'good', 't14'],
    ['u', 'good', 'u10'],
  ])
  await settled(() => there(one).includes('u10 good'))
  expect(stream(one)!.lanes.map(({ paused }) => paused?.why?.message)).toEqual([
    expect.stringContaining('3 rows of nursery.t'),
    undefined,
  ])
  expect(there(one)).toEqual(['t10 a', 'u10 good'])
  expect(one.held.open.length).toBe(2)
  expect(one.record.state).toBe('Following')
  // As it was, it stands still again.
  await one.engine.deeds.continueLanes('p', [])
  await settled(() => one.errands.at(-1)?.endedAt !== null)
  one.log.commit([['u', 'more', 'u11']])
  await settled(() => there(one).includes('u11 more') && stream(one)!.lanes[0]!.paused !== undefined)
  // Mended at the source, it goes on.
  one.log.commit([['t', 'good', 't13']])
  one.target.refuses = () => undefined
  await one.engine.deeds.continueLanes('p', [])
  await settled(() => atHead(one) && there(one).includes('t13 good') && there(one).includes('t14 good'))
  await settled(() => stream(one)!.lanes.every(({ own }) => own === undefined))
  await one.engine.stop()
})

test('with nothing to be held, the first that does not fit stops its lane', async () => {
  const one = bed()
  one.record.definition = { ...asReplication(one.record.definition), held: { most: 0 } }
  one.target.refuses = noBad
  one.log.commit([['t', 'a', 't10']])
  await started(one)
  one.log.commit([['t', 'bad', 't11']])
  await settled(() => stream(one)!.lanes[0]!.paused !== undefined)
  expect(stream(one)!.lanes[0]!.paused!.why!.message).toContain('the value bad does not fit')
  // Where no lane is left that could go on, all of it stops.
  one.log.commit([['u', 'bad', 'u11']])
  await settled(() => one.record.state === 'Stopped')
  expect(one.record.reason!.message).toContain('the value bad does not fit')
  await one.engine.stop()
})

test('beyond a share of its rows a lane stands still, too', async () => {
  const one = bed()
  one.record.definition = { ...asReplication(one.record.definition), held: { percent: 2 } }
  one.target.refuses = noBad
  one.log.commit(Array.from({ length: 120 }, (_, i) => ['t', 'a', `t${100 + i}`]))
  await started(one)
  one.log.commit(['t300', 't301'].map(key => ['t', 'bad', key]))
  await settled(() => one.held.open.length === 2 && atHead(one))
  expect(stream(one)!.lanes[0]!.paused).toBeUndefined()
  one.log.commit([
    ['t', 'bad', 't302'],
    ['u', 'good', 'u10'],
  ])
  await settled(() => there(one).includes('u10 good'))
  expect(stream(one)!.lanes[0]!.paused!.why!.message).toContain('3 of the 120 rows of nursery.t')
  expect(one.held.open.length).toBe(2)
  await one.engine.stop()
})

test('where a row waits for somebody for too long its lane stands still, until somebody has looked after it', async () => {
  const one = bed()
  one.record.definition = { ...asReplication(one.record.definition), held: { hours: 5 } }
  one.target.refuses = noBad
  one.log.commit([['t', 'a', 't10']])
  await started(one)
  one.log.commit([
    ['t', 'bad', 't11'],
    ['t', 'bad', 't12'],
  ])
  await settled(() => one.held.open.length === 2 && atHead(one))
  const hour = 3_600_000
  one.later(3 * hour)
  await settled(() => one.record.state === 'Following')
  await one.engine.stop()
  // Since when they wait is known to whoever goes on.
  const engine = one.engineAgain()
  await engine.start()
  one.later(1.5 * hour)
  one.log.commit([['u', 'good', 'u10']])
  await settled(() => there(one).includes('u10 good'))
  expect(stream(one)!.lanes[0]!.paused).toBeUndefined()
  one.later(hour)
  await settled(() => stream(one)!.lanes[0]!.paused !== undefined)
  expect(stream(one)!.lanes[0]!.paused!.why!.message).toBe(
    '2 rows of nursery.t are held back for more than 5 hours.',
  )
  // One is let be, the other tried again: nobody needs to look after them any more.
  const [first, second] = one.held.open.map(({ id }) => id)
  await engine.deeds.settleHeld('p', { deed: 'drop', ids: [first!], note: 'known' })
  await settled(() => one.held.open.length === 1)
  one.target.refuses = rows => noBad(rows.filter(([id]) => !id.endsWith('/t12')))
  await engine.deeds.settleHeld('p', { deed: 'retry', ids: [second!] })
  await settled(() => one.held.open.length === 0)
  await engine.deeds.continueLanes('p', [])
  one.log.commit([['t', 'good', 't13']])
  await settled(() => there(one).includes('t13 good') && stream(one)!.lanes[0]!.own === undefined)
  await engine.stop()
})

describe('before most of a table goes', () => {
  const keys = Array.from({ length: 120 }, (_, i) => `t${100 + i}`)
  const filled = async () => {
    const one = bed()
    one.log.commit(
      keys.map(key => ['t', 'v', key]),
      [['u', 'v', 'u10']],
    )
    await started(one)
    return one
  }
  const asked = (one: Bed) =>
    settled(() => one.record.state === 'Stopped' && one.record.reason?.kind === 'guard')

  test('it is asked, and nothing of that transaction is there until it is let through', async () => {
    const one = await filled()
    one.log.commit([
      ...keys.slice(0, 70).map(key => ['t', null, key] as Logged[number]),
      ['u', 'with it', 'u10'],
    ])
    await asked(one)
    expect(one.record.reason!.message).toContain('70 of the 120 rows of nursery.t')
    expect(there(one).length).toBe(121)
    await one.engine.continue('p')
    await asked(one)
    await one.engine.deeds.letRowsGo('p')
    await settled(() => atHead(one) && there(one).length === 51)
    // It was let through once.
    one.log.commit(keys.slice(70).map(key => ['t', null, key]))
    await asked(one)
    await expect(one.engine.deeds.letRowsGo('q')).resolves.toBeUndefined()
    await settled(() => atHead(one) && there(one).length === 1)
    await one.engine.stop()
  })

  test('a small table, and one that is refilled, are not asked about', async () => {
    const one = await filled()
    one.log.commit([['u', null, 'u10']])
    one.log.commit([
      ...keys.map(key => ['t', null, key] as Logged[number]),
      ...keys.map(() => ['t', 'anew'] as Logged[number]),
    ])
    await settled(() => atHead(one) && there(one).length === 120)
    await one.engine.stop()
  })

  test('nobody is asked who does not want to be', async () => {
    const one = bed()
    one.record.definition = { ...asReplication(one.record.definition), guard: { percent: 100 } }
    one.log.commit(keys.map(key => ['t', 'v', key]))
    await started(one)
    one.log.commit(keys.map(key => ['t', null, key]))
    await settled(() => atHead(one) && there(one).length === 0)
    await one.engine.stop()
  })
})
