import { afterEach, beforeEach, expect, test } from '@jest/globals'
import { Failure } from '@tide/core/failure'
import { unpackRow } from '@tide/core/records/tuple'
import fc from 'fast-check'
import { existsSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { JournalKeeper } from '../src/journal/keeper.ts'
import { JournaledSource } from '../src/journal/source.ts'
import { clockAt, expectedLines, MemoryLog, tableOf, type Logged } from './memory-log.ts'

let folder: string
let log: MemoryLog
let keepers: JournalKeeper[]
beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), 'constant-tide-test-'))
  log = new MemoryLog()
  keepers = []
})
afterEach(async () => {
  for (const keeper of keepers) await keeper.close()
  rmSync(folder, { recursive: true, force: true })
})

/** Waits are short, and each is counted. */
function newKeeper(waits: number[] = []): JournalKeeper {
  const keeper = new JournalKeeper(join(folder, 'journal'), 'reader', log.session, {
    now: Date.now,
    random: () => 0,
    newId: () => 'id',
    sleep: async (milliseconds, signal) => {
      const looksAfter = milliseconds === 10_000
      if (!looksAfter) waits.push(milliseconds)
      await sleep(looksAfter ? milliseconds : 1, undefined, { signal }).catch(() => {})
    },
  })
  keepers.push(keeper)
  return keeper
}

/** The journal's changes as `transaction table id value`. */
async function held(keeper: JournalKeeper): Promise<string[]> {
  const lines: string[] = []
  for await (const line of keeper.lines(undefined, 1_000_000)) {
    const { transaction, table, after } = JSON.parse(line)
    lines.push(`${transaction} ${table.replace('nursery.', '')} ${after.id} ${after.v}`)
  }
  return lines
}

async function until(what: () => boolean | Promise<boolean>): Promise<void> {
  for (let tries = 0; !(await what()); tries++) {
    if (tries > 2_000) throw new Error('it did not come to that')
    await sleep(2)
  }
}

const beds = tableOf('beds')
const tools = tableOf('tools')
const lane = (dataset = beds) => ({
  dataset,
  key: ['id'],
  since: null,
  columns: ['id', 'v'].map(name => ({ name, nativeType: 'text', type: { kind: 'utf8' } as const })),
})

test('however often the source cuts it off, the journal holds its log once and in order', async () => {
  const transactions = fc.array(
    fc.array(fc.tuple(fc.constantFrom('beds', 'tools'), fc.string({ maxLength: 8 })), { maxLength: 5 }),
    { minLength: 1, maxLength: 30 },
  )
  await fc.assert(
    fc.asyncProperty(
      transactions,
      fc.array(fc.nat(40), { maxLength: 8 }),
      fc.boolean(),
      async (past, cuts, again) => {
        log = new MemoryLog()
        let keeper = newKeeper()
        const from = await keeper.take('one', [beds], log.side)
        let left = cuts[0] ?? Infinity
        let cut = 0
        log.onEntry = () => {
          if (left-- > 0) return
          left = cuts[++cut] ?? Infinity
          throw new Failure('transient', 'The connection was cut.', 'Wait.')
        }
        for (const [n, one] of past.entries()) {
          log.commit(one as Logged)
          if (n % 5 === 0) await sleep(1)
          if (again && n === 10) {
            await keeper.close()
            keeper = newKeeper()
            await keeper.resume()
          }
        }
        const wanted = expectedLines(log, 0, [beds])
        await until(async () => (await held(keeper)).length >= wanted.length)
        await until(() => keeper.clock.completeAt !== null)
        expect(await held(keeper)).toEqual(wanted)
        expect(from.at).toBe('0/100')
        await keeper.release('one', log.side)
        expect(existsSync(join(folder, 'journal'))).toBe(false)
      },
    ),
    { numRuns: 40 },
  )
})

test('that there is no more is said only of what is on disk', async () => {
  const keeper = newKeeper()
  const from = await keeper.take('one', [beds], log.side)
  const source = new JournaledSource(keeper, log.side)
  let committed = 0
  for (let n = 0; n < 200; n++) {
    const rows = 1 + (n % 7) * 40
    log.commit(Array.from({ length: rows }, (_, i) => ['beds', `${n} ${i} ${'x'.repeat(200)}`]))
    committed += rows
    // What is complete up to a transaction's time must hold that transaction, whenever somebody asks.
    for (let asked = 0; asked < 20; asked++) {
      await new Promise(resolve => setImmediate(resolve))
      const head = await source.head([lane()], from)
      const complete = head.completeUpTo && Date.parse(head.completeUpTo) * 1000
      if (complete && complete >= clockAt(n + 1)) expect(head.pendingChanges).toBe(committed)
    }
  }
  await until(async () => (await source.head([lane()], from)).pendingChanges === committed)
  await source.close()
})

test('the source may forget only what is on disk, and an idle one what we have passed', async () => {
  const keeper = newKeeper()
  await keeper.take('one', [beds], log.side)
  log.commit([['tools', 'not ours']], [['beds', 'ours']], [['tools', 'nor this']])
  await until(() => log.acknowledged >= 2)
  expect(await held(keeper)).toEqual(['x1 beds 1.0 ours'])
  expect(keeper.info!.followers).toEqual([expect.objectContaining({ pipeline: 'one', position: '0/100' })])
})

test('a further follower begins where the log tells of its tables; the source is let go with the last', async () => {
  const keeper = newKeeper()
  await keeper.take('one', [beds], log.side)
  log.commit([
    ['beds', 'a'],
    ['tools', 'too early'],
  ])
  await until(async () => (await held(keeper)).length === 1)
  const from = await keeper.take('two', [tools], log.side)
  expect(from.at).toBe('0/110')
  log.commit([
    ['beds', 'b'],
    ['tools', 'c'],
  ])
  await until(async () => (await held(keeper)).length === 3)
  const source = new JournaledSource(keeper, log.side)
  const { transactions } = await source.read([lane(tools)], from, 100)
  const events = transactions.flatMap(transaction =>
    transaction.events.map(event => ({ ...event, transaction })),
  )
  // Its number is the one it has among all changes of the transaction.
  expect(events).toMatchObject([{ op: 'insert', lane: 0, number: 1, transaction: { start: '0/110' } }])
  expect(events.map(event => 'after' in event && unpackRow(event.after))).toEqual([['1.1', 'c']])
  // Before that it was not followed, and nobody may believe that nothing had happened.
  const early = { ...from, at: '0/100' }
  await expect(source.read([lane(tools)], early, 100)).rejects.toMatchObject({
    kind: 'structural',
  })
  await source.close()
  await keeper.release('one', log.side)
  expect(log.kept).toBe(true)
  await keeper.release('two', log.side)
  expect(log.kept).toBe(false)
  expect(keeper.info).toBeUndefined()
})

test('a source that is away is tried again, ever less often, and says so', async () => {
  const waits: number[] = []
  const keeper = newKeeper(waits)
  let away = 6
  const seen = new Set<string | undefined>()
  log.onEntry = () => {
    seen.add(keeper.retry?.message)
    if (away-- > 0) throw new Failure('transient', 'Nothing answers.', 'See that it runs.')
  }
  await keeper.take('one', [beds], log.side)
  log.commit([['beds', 'a']])
  await until(async () => (await held(keeper)).length === 1)
  await until(() => keeper.retry === null)
  expect([...seen]).toEqual([undefined, 'Nothing answers.'])
  expect(waits.slice(0, 6)).toEqual([...waits.slice(0, 6)].sort((a, b) => a - b))
  expect(waits.slice(0, 6).at(-1)).toBeGreaterThan(waits[0]!)
})

test('another history is not followed: what is there lands, then the reason is told; a start begins anew', async () => {
  const keeper = newKeeper()
  const from = await keeper.take('one', [beds], log.side)
  log.commit([['beds', 'before']])
  await until(async () => (await held(keeper)).length === 1)
  log.incarnation = 'two'
  log.onEntry = () => {
    throw new Failure('transient', 'The connection was cut.', 'Wait.')
  }
  log.commit([['beds', 'of another history']])
  await until(() => keeper.fault !== undefined)
  log.onEntry = () => {}
  const source = new JournaledSource(keeper, log.side)
  const batch = await source.read([lane()], from, 100)
  expect(batch.transactions.map(({ id }) => id)).toEqual(['x0'])
  await expect(source.read([lane()], batch.to, 100)).rejects.toMatchObject({
    message: 'Another history.',
  })
  await source.close()
  const anew = await keeper.take('one', [beds], log.side)
  expect(anew).toEqual(log.end)
  log.commit([['beds', 'after']])
  await until(async () => (await held(keeper)).length > 0)
  expect(await held(keeper)).toEqual(['x2 beds 2.0 after'])
})
