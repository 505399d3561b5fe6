/** Going back in the journal, and forward over some of it, with faults at any call. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { parseLsn, printLsn } from '@tide/core/position/lsn'
import fc from 'fast-check'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { placeFor, spanBetween } from '../src/journal/look-back.ts'
import { clockAt, MemoryLog, type Logged } from './memory-log.ts'
import { MemoryTarget, sessionOf, troubledLog, type Trouble } from './memory-systems.ts'
import { laneOf, settled, world as worldOf } from './world.ts'

const LANES = [laneOf('nursery', 't'), laneOf('nursery', 'u')]

let folder: string
let worlds = 0
beforeAll(() => void (folder = mkdtempSync(join(tmpdir(), 'constant-tide-rewind-'))))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

function bed(trouble: Trouble = () => undefined) {
  const [log, target] = [new MemoryLog(), new MemoryTarget()]
  log.rest = () => new Promise(resolve => setImmediate(resolve))
  const side = troubledLog(log, trouble)
  const from = () => sessionOf({ log: side })
  const to = () => sessionOf({ target: target.side(trouble) })
  const made = worldOf({ from, to }, join(folder, String(worlds++)))
  const parts = made.partsOf('home')
  return { log, target, ...made, parts, engine: made.engine(parts) }
}

type Bed = ReturnType<typeof bed>

const there = ({ target }: Bed) => target.state.rows.map(([, row]) => [...row].join(' ')).sort()
const wanted = ({ log }: Bed) =>
  LANES.flatMap(({ source }) => [...log.rowsOf(source.name)].map(row => row.join(' '))).sort()
const stream = ({ target }: Bed) => target.state.checkpoint?.streams[0]
const isEven = (one: Bed) =>
  one.record.state === 'Following' &&
  stream(one)?.position.at === one.log.end.at &&
  JSON.stringify(there(one)) === JSON.stringify(wanted(one))

async function started(one: Bed, lanes = LANES) {
  await one.engine.begin('p', { definition: one.record.definition, lanes, steps: [] })
  await settled(() => isEven(one))
}

const positionAt = (one: Bed, n: number) => ({ ...one.log.end, at: printLsn(0x100n + BigInt(n) * 0x10n) })
const numberOf = (at: string) => Number((parseLsn(at) - 0x100n) / 0x10n)
const rewindTo = (one: Bed, n: number, reason: string | null = null) =>
  one.engine.deeds.rewind('p', [{ run: 'p', to: positionAt(one, n) }], reason)

const change = fc.record({
  table: fc.constantFrom('t', 'u'),
  key: fc.integer({ min: 10, max: 19 }),
  value: fc.integer({ min: 0, max: 9 }),
  remove: fc.boolean(),
})
const transactions = fc.array(fc.array(change, { minLength: 1, maxLength: 4 }), {
  minLength: 1,
  maxLength: 12,
})
const logged = ({
  table,
  key,
  value,
  remove,
}: {
  table: string
  key: number
  value: number
  remove: boolean
}) => [table, remove ? null : `v${value}`, `${table}${key}`] as Logged[number]

test('wherever it is rewound to, whatever call fails, both sides end up equal', async () => {
  const faults = fc.array(fc.constantFrom(undefined, undefined, 'before' as const, 'after' as const), {
    maxLength: 40,
  })
  await fc.assert(
    fc.asyncProperty(
      transactions,
      transactions,
      faults,
      fc.nat(),
      fc.boolean(),
      async (before, after, troubles, back, paused) => {
        const faults: (typeof troubles)[number][] = []
        const one = bed(() => faults.shift())
        one.log.commit([['t', 'old', 't10']])
        await started(one)
        for (const changes of before) one.log.commit(changes.map(logged))
        await settled(() => isEven(one))
        if (paused) {
          await one.engine.pause('p')
          await settled(() => one.record.state === 'Paused')
        }
        const place = 1 + (back % (before.length + 1))
        const stood = stream(one)!.position.at
        faults.push(...troubles)
        await rewindTo(one, place)
        await settled(() => one.errands.every(({ endedAt }) => endedAt !== null))
        expect(one.errands[0]!.state).toBe('done')
        if (place < numberOf(stood)) expect(one.saves.find(({ kind }) => kind === 'rewind')).toBeDefined()
        for (const changes of after) one.log.commit(changes.map(logged))
        if (paused) {
          expect(numberOf(stream(one)!.position.at)).toBe(place)
          await one.engine.continue('p')
        }
        await settled(() => isEven(one) && stream(one)!.consistent)
        await one.engine.stop()
      },
    ),
    { numRuns: 60 },
  )
}, 60_000)

test('while the span is applied again it is not consistent, and says up to when it is complete', async () => {
  const one = bed()
  one.log.commit([['t', 'a', 't10']])
  await started(one)
  for (let n = 0; n < 5; n++) one.log.commit([['t', `v${n}`, 't10']])
  await settled(() => isEven(one))
  await one.engine.pause('p')
  await settled(() => one.record.state === 'Paused')
  await rewindTo(one, 3)
  await settled(() => Boolean(one.errands[0]?.endedAt))
  expect(stream(one)).toMatchObject({ consistent: false, position: positionAt(one, 3) })
  expect(Date.parse(stream(one)!.completeUpTo)).toBeLessThanOrEqual(clockAt(3) / 1000)
  await one.engine.stop()
})

test('what is passed over is counted, keeps the pipeline from being consistent, and is healed by going back', async () => {
  const one = bed()
  one.log.commit([['t', 'a', 't10']])
  await started(one)
  await one.engine.pause('p')
  await settled(() => one.record.state === 'Paused')
  one.log.commit([['t', 'left out', 't11']], [['u', 'left out', 'u11']], [['u', 'kept', 'u12']])
  const journal = () => one.parts.journals.of('from').there()
  await settled(() => one.parts.journals.of('from').info?.end.position === one.log.end.at)
  await rewindTo(one, 3)
  await settled(() => Boolean(one.errands[0]?.endedAt))
  expect(one.errands[0]).toMatchObject({ state: 'refused' })
  await rewindTo(one, 3, 'a test of the pumps')
  await settled(() => Boolean(one.errands[1]?.endedAt))
  expect(one.errands[1]).toMatchObject({ state: 'done' })
  await one.engine.continue('p')
  await settled(() => stream(one)!.position.at === one.log.end.at)
  expect(there(one)).toEqual(['t10 a', 'u12 kept'])
  expect(stream(one)).toMatchObject({
    consistent: false,
    lanes: [{ leftOut: { changes: 1 } }, { leftOut: { changes: 1 } }],
  })
  const span = await spanBetween(
    (await journal())!,
    LANES.map(({ source, reads }) => ({ dataset: source, columns: reads, key: ['id'], since: null })),
    positionAt(one, 1).at,
    positionAt(one, 3).at,
    () => false,
  )
  expect(span).toEqual({ transactions: 2, changes: [1, 1], counted: true })
  await rewindTo(one, 1)
  await settled(() => isEven(one) && stream(one)!.consistent)
  expect(stream(one)!.lanes.map(({ leftOut }) => leftOut)).toEqual([undefined, undefined])
  await one.engine.stop()
})

test('a lane that came later goes on from where its changes began to be captured', async () => {
  const one = bed()
  one.log.commit([['t', 'a', 't10']], [['u', 'a', 'u10']])
  await one.engine.begin('p', { definition: one.record.definition, lanes: LANES.slice(0, 1), steps: [] })
  await settled(() => stream(one)?.position.at === one.log.end.at && one.record.state === 'Following')
  one.log.commit([['u', 'b', 'u10']], [['t', 'b', 't10']])
  await one.engine.extend('p', { lanes: LANES.slice(1), steps: [] })
  await settled(() => isEven(one) && stream(one)!.lanes.every(({ copied, own }) => copied && !own))
  one.log.commit([['u', null, 'u10']], [['t', 'c', 't10']])
  await settled(() => isEven(one))
  await rewindTo(one, 2)
  await settled(() => Boolean(one.errands.at(-1)?.endedAt))
  expect(one.errands.at(-1)).toMatchObject({ state: 'done' })
  one.log.commit([['u', 'd', 'u11']])
  await settled(() => isEven(one) && stream(one)!.consistent)
  await one.engine.stop()
})

test('what is not in the journal, not of this source, or still being copied is refused, and nothing changes', async () => {
  const one = bed()
  one.log.commit([['t', 'a', 't10']])
  await started(one)
  const refused = async (to: object) => {
    await one.engine.deeds.rewind('p', [{ run: 'p', to: { ...one.log.end, ...to } }], 'because')
    await settled(() => Boolean(one.errands.at(-1)?.endedAt))
    expect(one.errands.at(-1)!.state).toBe('refused')
    return one.errands.at(-1)!.outcome
  }
  expect(await refused({ at: '0/10' })).toContain('no longer holds')
  expect(await refused({ at: 'FF/0' })).toContain('behind the end')
  expect(await refused({ incarnation: 'restored' })).toContain('another incarnation')
  const journal = (await one.parts.journals.of('from').there())!
  const found = (to: { time: string } | { position: string }) => placeFor(journal, to, clockAt(1))
  await expect(found({ position: 'nonsense' })).rejects.toThrow('is no position')
  await expect(found({ position: '0/1' })).rejects.toThrow('no longer holds')
  await expect(found({ position: 'FF/0' })).rejects.toThrow('behind the end')
  await expect(found({ time: '2999-01-01T00:00:00Z' })).rejects.toThrow('in the future')
  await expect(found({ time: 'yesterday' })).rejects.toThrow('is no time')
  expect(isEven(one)).toBe(true)
  await one.engine.stop()
})
