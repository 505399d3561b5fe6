import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { comparedLine } from '@tide/core/send/compared-line'
import type { FieldPair } from '@tide/core/definition/send'
import fc from 'fast-check'
import { readdirSync } from 'node:fs'
import { mkdtemp, rm } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { lease } from '../src/duckdb/instance.ts'
import { FileSentStates } from '../src/sent/sent-states.ts'
import type { CompareAsked, SentState } from '../src/contract/sent.ts'

let folder = ''
let states: FileSentStates

beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), 'constant-tide-sent-'))
  states = new FileSentStates(folder)
})
afterAll(() => rm(folder, { recursive: true, force: true }))

const PAIRS: FieldPair[] = [
  { field: 'name', from: { column: 'name' } },
  { field: 'note', from: { column: 'note' }, empty: 'clear' },
  { field: 'source', from: { constant: 'us' }, once: true },
]
const ASKED: CompareAsked = { matches: 0, fields: PAIRS.map(({ field }) => field) }

type Rows = Map<string, { name: string | null; note: string | null }>

async function* linesOf(rows: Rows): AsyncGenerator<Uint8Array> {
  let n = 0
  for (const [key, { name, note }] of rows) {
    const values = { ...(name === null ? {} : { name }), note, source: 'us' }
    yield Buffer.from(comparedLine(n++, { key: [key], values, matches: [], problem: null }, PAIRS))
  }
}

/** Sends what differs to an app in memory, in calls of a few. */
async function send(
  state: SentState,
  rows: Rows,
  app: Map<string, Record<string, string | null>>,
  again?: CompareAsked['again'],
): Promise<number> {
  const compared = await state.compare(linesOf(rows), { ...ASKED, ...(again ? { again } : {}) })
  const counts = await compared.decide({ may: 'make identical' })
  let [after, sent] = [0, 0]
  for (;;) {
    const page = await compared.operations(after, 3)
    if (page.length === 0) break
    after = page.at(-1)!.n
    const operations = page.map(({ operation }) => operation)
    const call = { once: `call ${Math.random()}`, run: 'run', operations }
    await state.begin(call)
    expect(await state.unsettled()).toEqual([call])
    const outcomes = operations.map(({ op, key, id, values }) => {
      const record = id ?? `rec ${key[0]}`
      if (op === 'remove') app.delete(record)
      else app.set(record, { ...app.get(record), ...values })
      return { id: record }
    })
    await state.end(call, outcomes, '2026-11-30T00:00:00Z')
    sent += operations.length
  }
  await compared.close()
  await state.keepRun('run', ASKED.fields)
  expect(counts.create + counts.change + counts.remove).toBe(sent)
  return sent
}

/** Longer than what is compared as it is. */
const LONG = 'osie'.repeat(200)
const value = fc.option(
  fc.oneof(
    fc.constantFrom('a', '', 'null', '[]', '"', '\\.', 'é', ' a', '“b” 2', LONG, `${LONG}r`),
    fc.string({ maxLength: 6 }),
  ),
)
const rowsOf = fc
  .uniqueArray(fc.tuple(fc.string({ minLength: 1, maxLength: 4 }), value, value), {
    maxLength: 8,
    selector: ([key]) => key,
  })
  .map(all => new Map(all.map(([key, name, note]) => [key, { name, note }])) as Rows)

test('several who open at once what is not there yet have it', async () => {
  const opened = await Promise.all(Array.from({ length: 8 }, () => states.open('atonce', 'here')))
  expect((await Promise.all(opened.map(one => one.totals()))).map(({ sent }) => sent)).toEqual(
    Array(8).fill(0),
  )
  for (const one of opened) await one.close()
})

test('what differs, sent one after the other, makes the app what the results said; then nothing differs', async () => {
  const state = await states.open('all', 'here')
  const app = new Map<string, Record<string, string | null>>()
  try {
    await fc.assert(
      fc.asyncProperty(fc.array(rowsOf, { minLength: 1, maxLength: 3 }), async results => {
        // Nothing of the run before.
        await send(state, new Map(), app)
        const expected = new Map<string, Record<string, string | null>>()
        for (const rows of results) {
          await send(state, rows, app)
          for (const key of [...expected.keys()]) if (!rows.has(key)) expected.delete(key)
          for (const [key, { name, note }] of rows)
            expected.set(key, {
              source: 'us',
              ...expected.get(key),
              // A name that has gone stays; a note that has gone is emptied.
              ...(name === null ? {} : { name }),
              note,
            })
          expect(new Map([...app].map(([id, values]) => [id.slice(4), values]))).toEqual(expected)
          expect(await send(state, rows, app)).toBe(0)
        }
        expect((await state.totals()).sent).toBe(expected.size)
      }),
      { numRuns: 30 },
    )
  } finally {
    await state.close()
  }
}, 120_000)

test('long texts differ in little memory', async () => {
  const count = 9_000
  const state = await states.open('long', 'here')
  const [file] = readdirSync(folder).filter(name => name.startsWith('long.') && name.endsWith('.duckdb'))
  const held = await lease(join(folder, file!))
  const connection = await held.connect()
  const told = `'{"name":"A","note":"' || repeat('y', 20000) || i || '"}'`
  await connection.run(
    `INSERT INTO sent SELECT '["' || i || '"]', 'rec' || i, ${told}, ${told}, '2026-12-01' FROM range(${count}) r(i)`,
  )
  const lines = async function* () {
    for (let i = 0; i < count; i++) {
      const values = { name: 'A', note: 'x'.repeat(20_000) + i, source: 'us' }
      yield Buffer.from(comparedLine(i, { key: [String(i)], values, matches: [], problem: null }, PAIRS))
    }
  }
  const compared = await state.compare(lines(), ASKED)
  expect((await compared.decide({ may: 'make identical' })).change).toBe(count)
  const [last] = await compared.operations(count - 1, 5)
  expect(last!.operation.values).toEqual({ note: 'x'.repeat(20_000) + (count - 1) })
  await compared.close()
  await held.disconnect(connection)
  await held.release()
  await state.close()
}, 60_000)

test('what was sent elsewhere, or by another key, is another matter', async () => {
  const here = await states.open('places', 'here')
  const app = new Map<string, Record<string, string | null>>()
  await send(here, new Map([['a', { name: 'A', note: null }]]), app)
  await here.close()
  const there = await states.open('places', 'there')
  expect((await there.totals()).sent).toBe(0)
  await there.close()
  const again = await states.open('places', 'here')
  expect((await again.totals()).sent).toBe(1)
  await again.close()
  await states.remove('places')
  const anew = await states.open('places', 'here')
  expect((await anew.totals()).sent).toBe(0)
  await anew.close()
})

test('rows without a key or with another’s are told, and match keys are asked one after another', async () => {
  const state = await states.open('meets', 'here')
  const line = (n: number, key: string[] | null, matches: (string | null)[]) =>
    Buffer.from(comparedLine(n, { key, values: { name: 'x' }, matches, problem: null }, PAIRS))
  try {
    const compared = await state.compare(
      (async function* () {
        yield line(0, ['a'], ['one', null])
        yield line(1, ['b'], ['nobody', 'two'])
        yield line(2, ['c'], [null, 'both'])
        yield line(3, ['d'], [null, null])
        yield line(4, ['d'], ['one', null])
        yield line(5, null, [null, null])
      })(),
      { ...ASKED, matches: 2 },
    )
    expect(compared).toMatchObject({ rows: 6, keyless: 1, doubled: [{ key: ['d'], rows: 2 }], fresh: 5 })
    const there = 'r1,one,x\nr2,,two\nr3,,both\nr4,,both\n'
    const found = await compared.meet(
      (async function* () {
        yield Buffer.from(there)
      })(),
    )
    expect(found).toEqual({ none: 1, one: 3, several: 1 })
    await compared.decide({ may: 'create and change' })
    const shown = await compared.look(10, '')
    expect(shown.map(({ op, key, id, reason }) => [op, key[0], id, reason])).toEqual(
      expect.arrayContaining([
        ['change', 'b', 'r2', null],
        ['held', 'c', 'r3', 'It meets 2 records.'],
        // Two rows are never one record.
        ['held', 'a', 'r1', 'Another row meets the same record, r1.'],
      ]),
    )
    await compared.close()
  } finally {
    await state.close()
  }
}, 60_000)
