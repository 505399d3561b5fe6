import { describe, expect, test } from '@jest/globals'
import { NetEffectFold, type NetEffect } from '@tide/core/apply/net-effect'
import type { ChangeEvent } from '@tide/core/records/change'
import { keyOf, keyText, type Row } from '@tide/core/records/value'
import fc from 'fast-check'

const KEY = [0]
type Table = Map<string, Row>
const keyFrom = (row: Row) => keyText(keyOf(row, KEY))

/** What the events do one by one, with unsent values left as they were. */
function applyOneByOne(table: Table, events: ChangeEvent[]): Table {
  const rows = new Map(table)
  for (const event of events) {
    if (event.op === 'truncate') rows.clear()
    else if (event.op === 'delete') rows.delete(keyFrom(event.before))
    else if (event.op === 'insert') rows.set(keyFrom(event.after), event.after)
    else {
      const old = rows.get(keyFrom(event.before))!
      const row = event.after.map((value, i) => (value === undefined ? old[i] : value))
      rows.delete(keyFrom(event.before))
      rows.set(keyFrom(row), row)
    }
  }
  return rows
}

/** What a target does with a net effect. */
function applyNet(table: Table, effect: NetEffect): Table {
  const old = effect.truncate ? new Map<string, Row>() : table
  const rows = new Map(old)
  for (const key of effect.removed) rows.delete(keyText(key))
  for (const { key, row, from } of effect.puts) {
    const base = from && table.get(keyText(from))
    rows.set(
      keyText(key),
      row.map((value, i) => (value === undefined ? base![i] : value)),
    )
  }
  return rows
}

/** A history that a table with these rows could have seen: keys are unique after every event. */
function history(
  start: Table,
  steps: { roll: number; key: number; other: number; value: string; unsent: boolean }[],
): ChangeEvent[] {
  const events: ChangeEvent[] = []
  const rows = new Map(start)
  for (const { roll, key, other, value, unsent } of steps) {
    const [k, o] = [String(key), String(other)]
    const present = rows.get(k)
    let event: ChangeEvent
    if (roll === 0) event = { op: 'truncate', lane: 0 }
    else if (!present) event = { op: 'insert', lane: 0, after: [k, value, null] }
    else if (roll < 4) event = { op: 'delete', lane: 0, before: present }
    else if (roll < 8 && !rows.has(o))
      event = { op: 'update', lane: 0, before: present, after: [o, unsent ? undefined : value, present[2]] }
    else event = { op: 'update', lane: 0, before: present, after: [k, value, unsent ? undefined : value] }
    const next = applyOneByOne(rows, [event])
    rows.clear()
    next.forEach((row, id) => rows.set(id, row))
    events.push(event)
  }
  return events
}

const steps = fc.array(
  fc.record({
    roll: fc.integer({ min: 0, max: 12 }),
    key: fc.integer({ min: 1, max: 5 }),
    other: fc.integer({ min: 1, max: 5 }),
    value: fc.string({ maxLength: 3 }),
    unsent: fc.boolean(),
  }),
  { maxLength: 40 },
)
const beginning = fc
  .uniqueArray(fc.integer({ min: 1, max: 5 }))
  .map((keys): Table => new Map(keys.map(key => [String(key), [String(key), 'old', 'big']])))

describe('net effect', () => {
  test('leaves what the events leave one by one, for any history', () => {
    fc.assert(
      fc.property(beginning, steps, (start, rolls) => {
        const events = history(start, rolls)
        const fold = new NetEffectFold(KEY)
        for (const event of events) fold.add(event)
        const { fresh, truncate, puts } = fold.result()
        if (fresh && !truncate) expect(puts.filter(({ key }) => start.has(key[0]!))).toEqual([])
        if (events.every(({ op }) => op === 'insert')) expect(fresh).toBe(true)
        const net = applyNet(start, fold.result())
        expect(new Map([...net].sort())).toEqual(new Map([...applyOneByOne(start, events)].sort()))
      }),
      { numRuns: 3000 },
    )
  })

  test('in any cutting into batches, and with a batch applied twice', () => {
    fc.assert(
      fc.property(beginning, steps, fc.integer({ min: 1, max: 9 }), (start, rolls, size) => {
        // A repeated batch can only be whole rows: what was not sent would be looked for under a key that is gone.
        const events = history(
          start,
          rolls.map(step => ({ ...step, unsent: false })),
        )
        let table = start
        for (let i = 0; i < events.length; i += size) {
          const fold = new NetEffectFold(KEY)
          for (const event of events.slice(i, i + size)) fold.add(event)
          table = applyNet(applyNet(table, fold.result()), fold.result())
        }
        expect(new Map([...table].sort())).toEqual(new Map([...applyOneByOne(start, events)].sort()))
      }),
    )
  })

  test('counts operations as they were, not as they came out', () => {
    const fold = new NetEffectFold(KEY)
    fold.add({ op: 'insert', lane: 0, after: ['1', 'a'] })
    fold.add({ op: 'update', lane: 0, before: ['1', 'a'], after: ['1', 'b'] })
    fold.add({ op: 'delete', lane: 0, before: ['1', 'b'] })
    expect(fold.counts).toEqual({ inserted: 1, updated: 1, deleted: 1 })
    expect(fold.result()).toEqual({ truncate: false, removed: [['1']], puts: [] })
  })

  test('a composite key tells apart what joins to the same text', () => {
    expect(keyText(['a1', 'b'])).not.toBe(keyText(['a', '1b']))
  })
})
