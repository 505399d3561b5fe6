import { afterEach, beforeEach, expect, test } from '@jest/globals'
import { encodeRow, packedValue, TEXT } from '@tide/core/records/tuple'
import type { ChangeEvent } from '@tide/core/records/change'
import fc from 'fast-check'
import {
  appendFileSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  truncateSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Journal } from '../src/journal.ts'
import { LARGEST_ROW_BYTES } from '../src/large-rows.ts'
import { JournalReader, type ReadAs } from '../src/reader.ts'

const START = { kind: 'postgres log', incarnation: 'one/1', at: '0/100' }
const lsn = (n: number) => `0/${(0x100 + n * 0x10).toString(16).toUpperCase()}`
const table = (id: number) => ({
  id,
  dataset: { namespace: 's', name: `t${id}` },
  columns: [
    { name: 'id', nativeType: 'integer' },
    { name: 'v', nativeType: 'text' },
  ],
})

let folder: string
const opened: Journal[] = []
beforeEach(() => {
  folder = join(mkdtempSync(join(tmpdir(), 'constant-tide-test-')), 'journal')
})
afterEach(async () => {
  for (const journal of opened.splice(0)) await journal.close()
  rmSync(folder, { recursive: true, force: true })
})

async function begin(segmentBytes?: number): Promise<Journal> {
  const journal = await Journal.begin(folder, START, segmentBytes === undefined ? {} : { segmentBytes })
  opened.push(journal)
  for (const id of [1, 2]) journal.appender.relation(table(id))
  return journal
}

async function reopened(journal: Journal, segmentBytes?: number): Promise<Journal> {
  await journal.close()
  opened.splice(opened.indexOf(journal), 1)
  const again = (await Journal.open(folder, segmentBytes))!
  opened.push(again)
  for (const id of [1, 2]) again.appender.relation(table(id))
  return again
}

/** Transaction `n` inserts these rows, each into table 1 or 2. */
function write(journal: Journal, n: number, rows: [table: number, value: string][]): void {
  const { appender } = journal
  appender.begin(lsn(n), n * 1000, `x${n}`)
  rows.forEach(([id, value], i) => appender.insert(id, encodeRow([`${n}.${i}`, value])))
  appender.commit(lsn(n + 1))
}

const everything = (relation: { id: number; dataset: { name: string } }): ReadAs => ({
  lane: Number(relation.dataset.name.slice(1)),
  columns: [0, 1],
  since: null,
})

/** What a reader gives from a position to the end: transactions as `id: value…`, and the counts it foretold. */
async function readAll(journal: Journal, from: string, atOnce: number, choose = everything) {
  const reader = new JournalReader(journal, from, relation => choose(relation))
  const { pendingChanges } = await reader.pending()
  const transactions = new Map<string, string[]>()
  for (;;) {
    const batch = await reader.read(atOnce)
    for (const { id, events } of batch.transactions) {
      const values = events.map(
        event => packedValue((event as ChangeEvent & { op: 'insert' }).after, 1) as string,
      )
      transactions.set(id, [...(transactions.get(id) ?? []), ...values])
    }
    expect(batch.at).toBe(reader.at)
    if (batch.transactions.length > 0) continue
    expect(batch.complete).toBe(true)
    expect([batch.pendingChanges, batch.oldestPending]).toEqual([0, null])
    await reader.close()
    return { transactions, pendingChanges, at: batch.at }
  }
}

const history = fc.array(
  fc.array(
    fc.tuple(
      fc.constantFrom(1, 2),
      fc.oneof(
        { weight: 5, arbitrary: fc.string({ unit: 'grapheme' }) },
        fc.nat(5).map(n => 'x'.repeat(n * 100_000)),
      ),
    ),
    { maxLength: 6 },
  ),
  { minLength: 1, maxLength: 12 },
)

test('what was written is read, from any position, in parts of any size, over segments and restarts', async () => {
  await fc.assert(
    fc.asyncProperty(
      history,
      fc.nat(),
      fc.integer({ min: 1, max: 7 }),
      fc.boolean(),
      async (past, from, atOnce, restart) => {
        let journal = await begin(300_000)
        const start = from % (past.length + 1)
        for (const [n, rows] of past.entries()) {
          write(journal, n, rows as [number, string][])
          if (n % 3 === 0) await journal.appender.flush()
          if (restart && n === start) journal = await reopened(journal, 300_000)
        }
        await journal.appender.flush()
        if (restart) journal = await reopened(journal, 300_000)
        const expected = past.flatMap((rows, n): [string, string[]][] => {
          const chosen = rows.filter(([id]) => id === 1).map(([, value]) => value)
          return n >= start && chosen.length > 0 ? [[`x${n}`, chosen]] : []
        })
        const only = (relation: Parameters<typeof everything>[0]) =>
          relation.dataset.name === 't1' ? everything(relation) : (undefined as never)
        const { transactions, pendingChanges, at } = await readAll(journal, lsn(start), atOnce, only)
        expect([...transactions]).toEqual(expected)
        expect(pendingChanges).toBeGreaterThanOrEqual(expected.flatMap(([, rows]) => rows).length)
        expect(at).toBe(lsn(Math.max(start, past.length)))
        await journal.close()
        opened.splice(0)
      },
    ),
    { numRuns: 60 },
  )
})

test('a batch that is full with the last change of a transaction is complete', async () => {
  const journal = await begin()
  write(journal, 0, [[1, 'a']])
  write(journal, 1, [
    [1, 'b'],
    [1, 'c'],
  ])
  await journal.appender.flush()
  const reader = new JournalReader(journal, lsn(0), everything)
  const read = async () => {
    const { at, complete, transactions } = await reader.read(1)
    return [at, complete, transactions.map(({ events }) => events.length)]
  }
  expect(await read()).toEqual([lsn(1), true, [1]])
  expect(await read()).toEqual([`${lsn(1)} + 1`, false, [1]])
  expect(await read()).toEqual([lsn(2), true, [1]])
  await reader.close()
})

test('a torn tail is cut at the last whole transaction, wherever it is torn, and writing goes on there', async () => {
  const journal = await begin()
  write(journal, 0, [[1, 'first']])
  await journal.appender.flush()
  const kept = statSync(join(folder, '0000000001.journal')).size
  write(journal, 1, [
    [1, 'y'.repeat(700_000)],
    [2, 'z'.repeat(700_000)],
    [1, 'end'],
  ])
  await journal.close()
  opened.splice(0)
  const file = join(folder, '0000000001.journal')
  const whole = readFileSync(file)
  for (const size of [kept + 1, kept + 7, kept + 9, kept + 700_000, kept + 1_300_000, whole.length - 1]) {
    truncateSync(file, size)
    let again = (await Journal.open(folder))!
    expect(again.end.at).toBe(lsn(1))
    expect(statSync(file).size).toBe(kept)
    opened.push(again)
    again = await reopened(again)
    write(again, 1, [[2, 'anew']])
    await again.appender.flush()
    expect([...(await readAll(again, '0/100', 100)).transactions]).toEqual([
      ['x0', ['first']],
      ['x1', ['anew']],
    ])
    await again.close()
    opened.splice(0)
    truncateSync(file, kept)
    appendFileSync(file, whole.subarray(kept))
  }
})

test('tables that come up over time stay what they are, wherever the process ends and whatever it was writing', async () => {
  const step = fc.oneof(
    {
      weight: 3,
      arbitrary: fc.record({
        rows: fc.array(fc.tuple(fc.integer({ min: 1, max: 6 }), fc.nat(9)), { maxLength: 5 }),
      }),
    },
    {
      weight: 2,
      arbitrary: fc.record({
        tornAt: fc.oneof(fc.constantFrom(0, 1), fc.double({ min: 0, max: 1, noNaN: true })),
      }),
    },
  )
  await fc.assert(
    fc.asyncProperty(
      fc.array(step, { minLength: 3, maxLength: 25 }),
      fc.constantFrom(300_000, 8_000_000),
      async (steps, segmentBytes) => {
        let journal = await Journal.begin(folder, START, { segmentBytes })
        opened.push(journal)
        const past: string[][] = []
        const known = new Set<number>()
        // Tables are described when they are changed first, as logs do, so that each process meets them in another order.
        const writeAgain = (n: number) => {
          const { appender } = journal
          appender.begin(lsn(n), n * 1000, `x${n}`)
          past[n]!.forEach((value, i) => {
            const id = Number(value.split(' ')[0])
            if (!known.has(id)) appender.relation(table(id))
            known.add(id)
            appender.insert(id, encodeRow([`${n}.${i}`, value]))
          })
          appender.commit(lsn(n + 1))
        }
        for (const step of steps) {
          if ('rows' in step) {
            past.push(step.rows.map(([id, size]) => `${id} ${'x'.repeat(size * 70_000)}`))
            writeAgain(past.length - 1)
            continue
          }
          await journal.close()
          const last = readdirSync(folder)
            .filter(name => name.endsWith('.journal'))
            .sort()
            .at(-1)
          if (last)
            truncateSync(join(folder, last), Math.floor(statSync(join(folder, last)).size * step.tornAt))
          journal = (await Journal.open(folder, segmentBytes))!
          opened.splice(0, opened.length, journal)
          known.clear()
          const there = past.findIndex((_, n) => lsn(n) === journal.end.at)
          for (let n = there < 0 ? past.length : there; n < past.length; n++) writeAgain(n)
        }
        await journal.appender.flush()
        const reader = new JournalReader(journal, START.at, everything)
        const found: string[] = []
        for (let batch = await reader.read(7); batch.transactions.length > 0; batch = await reader.read(7))
          for (const { events } of batch.transactions)
            for (const event of events)
              found.push(
                `${event.lane} of ${packedValue((event as ChangeEvent & { op: 'insert' }).after, 1)}`,
              )
        await reader.close()
        expect(found).toEqual(past.flat().map(value => `${value.split(' ')[0]} of ${value}`))
        await journal.close()
        opened.splice(0)
      },
    ),
    { numRuns: 60 },
  )
}, 60_000)

test('a table that was described in what is torn is described again', async () => {
  let journal = await begin()
  write(journal, 0, [[1, 'before']])
  const large = () => {
    journal.appender.begin(lsn(1), 1000, 'x1')
    journal.appender.relation(table(3))
    for (const i of [0, 1]) journal.appender.insert(3, encodeRow([`1.${i}`, 'x'.repeat(1_500_000)]))
    journal.appender.commit(lsn(2))
  }
  large()
  journal = await reopened(journal)
  expect(journal.end.at).toBe(lsn(2))
  const [last] = readdirSync(folder).filter(name => name.endsWith('.journal'))
  await journal.close()
  truncateSync(join(folder, last!), statSync(join(folder, last!)).size - 100)
  journal = await reopened(journal)
  expect(journal.end.at).toBe(lsn(1))
  large()
  journal = await reopened(journal)
  const { transactions } = await readAll(journal, START.at, 10)
  expect([...transactions].map(([id, values]) => [id, values.map(({ length }) => length)])).toEqual([
    ['x0', [6]],
    ['x1', [1_500_000, 1_500_000]],
  ])
})

test('a transaction that is cut off and comes again is there once; one that is there already is passed over', async () => {
  const journal = await begin()
  const { appender } = journal
  write(journal, 0, [[1, 'first']])
  appender.begin(lsn(1), 1000, 'x1')
  for (let i = 0; i < 5; i++) appender.insert(1, encodeRow([`1.${i}`, 'q'.repeat(400_000)]))
  await appender.abandon()
  for (const id of [1, 2]) appender.relation(table(id))
  write(journal, 0, [[1, 'first']])
  write(journal, 1, [[2, 'second']])
  await appender.flush()
  expect([...(await readAll(journal, '0/100', 100)).transactions]).toEqual([
    ['x0', ['first']],
    ['x1', ['second']],
  ])
  const again = await reopened(journal)
  expect([...(await readAll(again, lsn(1), 1)).transactions]).toEqual([['x1', ['second']]])
})

test('each lane begins behind its own copy; a reader that is at the end sees what comes later', async () => {
  const journal = await begin()
  for (let n = 0; n < 4; n++)
    write(journal, n, [
      [1, `a${n}`],
      [2, `b${n}`],
    ])
  await journal.appender.flush()
  const choose = (relation: Parameters<typeof everything>[0]) => ({
    ...everything(relation),
    since: relation.dataset.name === 't2' ? journal.position(lsn(2)) : null,
  })
  const { transactions } = await readAll(journal, lsn(1), 100, choose)
  expect([...transactions]).toEqual([
    ['x1', ['a1']],
    ['x2', ['a2', 'b2']],
    ['x3', ['a3', 'b3']],
  ])
  const reader = new JournalReader(journal, lsn(4), everything)
  expect((await reader.read(10)).transactions).toEqual([])
  write(journal, 4, [[1, 'late']])
  await journal.appender.flush()
  expect(await reader.pending()).toEqual({ pendingChanges: 1, oldestPending: 4000 })
  expect((await reader.read(10)).transactions).toHaveLength(1)
  journal.appender.mark(lsn(9))
  await journal.appender.flush()
  expect((await reader.read(10)).at).toBe(lsn(9))
  await reader.close()
})

test('a table whose columns changed fails when its change is read, not before', async () => {
  const journal = await begin()
  write(journal, 0, [[1, 'old']])
  journal.appender.relation({ ...table(1), columns: [{ name: 'id', nativeType: 'integer' }] })
  journal.appender.begin(lsn(1), 1000, 'x1')
  journal.appender.insert(1, encodeRow(['1']))
  journal.appender.commit(lsn(2))
  await journal.appender.flush()
  const reader = new JournalReader(journal, '0/100', relation => {
    if (relation.columns.length !== 2) throw new Error('changed')
    return everything(relation)
  })
  expect((await reader.read(1)).transactions).toHaveLength(1)
  await expect(reader.read(1)).rejects.toThrow('changed')
  await reader.close()
})

test('what was committed before changed columns is given before that is told, however much is asked for', async () => {
  const journal = await begin()
  write(journal, 0, [[1, 'first']])
  const { appender } = journal
  // One transaction that changes rows before and after the columns change: nothing of it may land.
  appender.begin(lsn(1), 1000, 'x1')
  appender.insert(1, encodeRow(['1.0', 'with it']))
  appender.relation({ ...table(1), columns: [{ name: 'id', nativeType: 'integer' }] })
  appender.insert(1, encodeRow(['1.1']))
  appender.commit(lsn(2))
  await appender.flush()
  for (const atOnce of [1, 2, 100]) {
    const reader = new JournalReader(journal, '0/100', relation => {
      if (relation.columns.length !== 2) throw new Error('changed')
      return everything(relation)
    })
    const { transactions, at, complete } = await reader.read(atOnce)
    expect([transactions.map(({ id }) => id), at, complete]).toEqual([['x0'], lsn(1), true])
    const rest = async () => {
      // Where little is asked for, its first part comes, which is not committed.
      const batch = await reader.read(atOnce)
      expect(batch.complete).toBe(false)
      await reader.read(atOnce)
    }
    await expect(rest()).rejects.toThrow('changed')
    await reader.close()
  }
})

test('whole transactions are not taken back with one that comes in parts behind them', async () => {
  const journal = await begin()
  write(journal, 0, [[1, 'whole']])
  write(
    journal,
    1,
    Array.from({ length: 5 }, (_, i): [number, string] => [1, String(i)]),
  )
  await journal.appender.flush()
  const reader = new JournalReader(journal, '0/100', everything)
  const told = async () => {
    const { transactions, at, complete, pendingChanges } = await reader.read(3)
    return [transactions.map(({ id, events }) => `${id} ${events.length}`), at, complete, pendingChanges]
  }
  expect(await told()).toEqual([['x0 1'], lsn(1), true, 5])
  expect(await told()).toEqual([['x1 3'], `${lsn(1)} + 3`, false, 2])
  expect(await told()).toEqual([['x1 2'], lsn(2), true, 0])
  await reader.close()
})

test('the retention lets go of what nobody needs, and of what is needed only when told', async () => {
  let journal = await begin(100_000)
  for (let n = 0; n < 8; n++) {
    write(journal, n, [[1, 'w'.repeat(120_000)]])
    await journal.appender.flush()
  }
  journal = await reopened(journal, 100_000)
  const count = () => readdirSync(folder).filter(name => name.endsWith('.journal')).length
  expect(count()).toBe(9)
  const now = 3_600_000 // an hour after 1970, as the transactions go
  const keep = { hours: 0.5, bytes: 1e9, hardBytes: 0 }
  await journal.hold('p', lsn(3))
  expect(await journal.trim({ ...keep, hours: 2 }, now)).toBe(0)
  expect(await journal.trim(keep, now)).toBe(3)
  expect(journal.start.at).toBe(lsn(3))
  expect([...(await readAll(journal, lsn(3), 100)).transactions.keys()]).toEqual([
    'x3',
    'x4',
    'x5',
    'x6',
    'x7',
  ])
  await journal.cover([{ namespace: 's', name: 't1' }], journal.position('0/100'))
  const t1 = { dataset: { namespace: 's', name: 't1' } }
  const refuse = () => journal.refuseGap([t1], journal.position(lsn(3)))
  expect(refuse).not.toThrow()
  // A table that came later is there for those who take it from there on.
  const later = { namespace: 's', name: 't2' }
  await journal.cover([later], journal.position(lsn(5)))
  expect(() => journal.refuseGap([t1, { dataset: later }], journal.position(lsn(3)))).toThrow(
    'no longer holds',
  )
  const since = journal.position(lsn(5))
  expect(() => journal.refuseGap([t1, { dataset: later, since }], journal.position(lsn(3)))).not.toThrow()
  expect(await journal.trim({ ...keep, hardBytes: 300_000 }, now)).toBe(3)
  expect(refuse).toThrow('no longer holds what follows')
  journal = await reopened(journal, 100_000)
  expect(journal.start.at).toBe(lsn(6))
  expect(journal.facts().followers).toEqual([{ id: 'p', position: lsn(3), bytesBehind: expect.any(Number) }])
  expect(() => journal.refuseGap([], { ...START, incarnation: 'one/2' })).toThrow('another incarnation')
})

test('a full disk is relieved of all that nobody needs; being cut off at it loses nothing that is needed', async () => {
  let journal = await begin(100_000)
  for (let n = 0; n < 6; n++) {
    write(journal, n, [[1, 'w'.repeat(120_000)]])
    await journal.appender.flush()
  }
  const keep = { hours: 99, bytes: 1e9, hardBytes: 0 }
  await journal.hold('p', lsn(3))
  expect(await journal.trim(keep, 0)).toBe(0)
  journal.appender.trouble = { message: 'ENOSPC: no space left on device, write', since: 0 }
  expect(await journal.trim(keep, 0)).toBe(3)
  journal.appender.trouble = undefined
  expect([...(await readAll(journal, lsn(3), 100)).transactions.keys()]).toEqual(['x3', 'x4', 'x5'])
  // The next one was emptied, and then the process was killed before it could write that down.
  const [oldest] = readdirSync(folder).filter(name => name.endsWith('.journal'))
  truncateSync(join(folder, oldest!), 0)
  journal = await reopened(journal, 100_000)
  expect(journal.start.at).toBe(lsn(4))
  expect([...(await readAll(journal, lsn(4), 100)).transactions.keys()]).toEqual(['x4', 'x5'])
  expect(readdirSync(folder)).not.toContain(oldest)
})

test('a row that nobody could carry is named with its column and its key, and nothing of it is taken', async () => {
  const journal = await begin()
  const row = Buffer.alloc(2 + 6 + 5 + LARGEST_ROW_BYTES)
  row.set(encodeRow(['7']))
  row[1] = 2
  row[8] = TEXT
  row.writeUInt32BE(LARGEST_ROW_BYTES, 9)
  journal.appender.begin(lsn(1), 1000, 'x1')
  expect(() => journal.appender.insert(1, row)).toThrow(/^s\.t1\.v: a value of 256 MB .* row with id 7\.$/)
  await journal.close()
  opened.length = 0
  const reader = new JournalReader((await Journal.open(folder))!, START.at, everything)
  expect((await reader.read(10)).transactions).toEqual([])
  await reader.close()
})

test('many followers hold places at once, and all of them are kept', async () => {
  const journal = await begin()
  const followers = Array.from({ length: 30 }, (_, i) => `p${i}`)
  await Promise.all(followers.map((follower, i) => journal.hold(follower, lsn(i))))
  await Promise.all(followers.map(follower => journal.cover([{ namespace: 's', name: follower }], START)))
  const again = await reopened(journal)
  expect(again.coveredTables.map(({ name }) => name).sort()).toEqual([...followers].sort())
  expect(
    again
      .facts()
      .followers.map(({ id }) => id)
      .sort(),
  ).toEqual([...followers].sort())
})
