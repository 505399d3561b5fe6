import { describe, expect, test } from '@jest/globals'
import { shapedEffect } from '@tide/core/apply/effect'
import { IdentityFold } from '@tide/core/apply/fold'
import type { NetEffect } from '@tide/core/apply/net-effect'
import type { ChangeEvent, SourceTransaction } from '@tide/core/records/change'
import { packRow, unpackRow } from '@tide/core/records/tuple'
import { keyOf, keyText, type Row } from '@tide/core/records/value'
import { laneShaper } from '@tide/core/shape/row'
import fc from 'fast-check'

const KEY = [0]
const columns = ['id', 'v', 'big'].map(name => ({
  name,
  type: { kind: 'utf8' } as const,
  nativeType: 'text',
  nullable: true,
}))
const LANE = {
  source: { namespace: 's', name: 't' },
  target: { namespace: 's', name: 't' },
  reads: columns,
  identity: ['id'],
  writes: columns.map(column => ({ ...column, value: { from: 'column' as const, column: column.name } })),
  key: ['id'],
  scope: null,
  rows: 0,
  rowsExact: true,
  bytes: 0,
}
const shaper = laneShaper(LANE, { origin: '', hash: text => text })
const TRANSACTION: SourceTransaction = { id: 'x', start: '0', at: '2026-11-20T10:00:00Z', events: [] }
type Table = Map<string, Row>
const keyFrom = (row: Row) => keyText(keyOf(row, KEY))

/** What the events do one by one, with unsent values left as they were. */
function applyOneByOne(table: Table, events: ChangeEvent[]): Table {
  const rows = new Map(table)
  for (const event of events) {
    if (event.op === 'truncate') rows.clear()
    else if (event.op === 'delete') rows.delete(keyFrom(unpackRow(event.before)))
    else if (event.op === 'insert') rows.set(keyFrom(unpackRow(event.after)), unpackRow(event.after))
    else {
      const before = keyFrom(unpackRow(event.before))
      const old = rows.get(before)!
      const row = unpackRow(event.after).map((value, i) => (value === undefined ? old[i] : value))
      rows.delete(before)
      rows.set(keyFrom(row), row)
    }
  }
  return rows
}

function effectOf(events: readonly ChangeEvent[]): NetEffect {
  const fold = new IdentityFold(KEY)
  for (const event of events) fold.add(event, TRANSACTION)
  return shapedEffect(fold, shaper, '2026-11-20T10:00:05Z').effect
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
      unpackRow(row).map((value, i) => (value === undefined ? base![i] : value)),
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
    const place = { lane: 0, number: events.length }
    if (roll === 0) event = { op: 'truncate', ...place }
    else if (!present) event = { op: 'insert', ...place, after: packRow([k, value, null]) }
    else if (roll < 4) event = { op: 'delete', ...place, before: packRow(present) }
    else if (roll < 8 && !rows.has(o))
      event = {
        op: 'update',
        ...place,
        before: packRow(present),
        after: packRow([o, unsent ? undefined : value, present[2]]),
      }
    else
      event = {
        op: 'update',
        ...place,
        before: packRow(present),
        after: packRow([k, value, unsent ? undefined : value]),
      }
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
        const effect = effectOf(events)
        const { fresh, truncate, puts } = effect
        if (fresh && !truncate) expect(puts.filter(({ key }) => start.has(key[0]!))).toEqual([])
        if (events.every(({ op }) => op === 'insert')) expect(fresh).toBe(true)
        const net = applyNet(start, effect)
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
          const effect = effectOf(events.slice(i, i + size))
          table = applyNet(applyNet(table, effect), effect)
        }
        expect(new Map([...table].sort())).toEqual(new Map([...applyOneByOne(start, events)].sort()))
      }),
    )
  })

  test('counts operations as they were, not as they came out', () => {
    const fold = new IdentityFold(KEY)
    fold.add({ op: 'insert', lane: 0, number: 0, after: packRow(['1', 'a', null]) }, TRANSACTION)
    const [a, b] = [packRow(['1', 'a', null]), packRow(['1', 'b', null])]
    fold.add({ op: 'update', lane: 0, number: 1, before: a, after: b }, TRANSACTION)
    fold.add({ op: 'delete', lane: 0, number: 2, before: b }, TRANSACTION)
    expect(fold.counts).toEqual({ inserted: 1, updated: 1, deleted: 1, truncated: 0, bytes: 45 })
    expect(shapedEffect(fold, shaper, '2026-11-20T10:00:05Z').effect).toEqual({
      truncate: false,
      removed: [['1']],
      puts: [],
    })
  })

  test('of each key it keeps the first row before, and the last place, time and operation', () => {
    fc.assert(
      fc.property(beginning, steps, (start, rolls) => {
        const events = history(
          start,
          rolls.map(step => ({ ...step, roll: Math.max(1, step.roll), unsent: false })),
        )
        const fold = new IdentityFold(KEY)
        const transactions = events.map((event, i) => {
          const one = { ...TRANSACTION, start: String(i), at: `at ${i}`, events: [event] }
          fold.add(event, one)
          return one
        })
        for (const state of fold.keys) {
          const key = keyText(state.identity)
          // What it was before all of this, where an event has told of it.
          if (state.before) expect(unpackRow(state.before)).toEqual(start.get(key))
          const touches = (event: ChangeEvent) =>
            ('before' in event && keyFrom(unpackRow(event.before)) === key) ||
            ('after' in event && keyFrom(unpackRow(event.after)) === key)
          const last = transactions.findLast(({ events: [event] }) => touches(event!))!
          expect(state.transaction).toBe(last)
          expect([state.number, state.op]).toEqual([last.events[0]!.number, last.events[0]!.op])
        }
      }),
    )
  })

  test('a composite key tells apart what joins to the same text', () => {
    expect(keyText(['a1', 'b'])).not.toBe(keyText(['a', '1b']))
  })
})
