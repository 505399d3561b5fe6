/** Remarks on records: said on one side, and on the other with the name of whoever said so. */
import { describe, expect, test } from '@jest/globals'
import type { AppObject } from '../src/app/object.ts'
import { inWords } from '../src/app/in-words.ts'
import type { TwoWayLane } from '../src/definition/two-way.ts'
import type { Side } from '../src/merge/rule.ts'
import { decidePair, settledPair, type Find } from '../src/two-way/decide.ts'
import { compileLane, halfOf } from '../src/two-way/lane.ts'
import type { Pair } from '../src/two-way/pair.ts'
import { field } from './app-field.ts'

const remarks = (name: string, of: string): AppObject => ({
  name,
  title: name,
  key: 'id',
  label: null,
  fields: [
    field('id', { readOnly: true }),
    field('of', { required: true, refers: of }),
    field('body', { required: true }),
    field('author', { readOnly: true }),
    field('at', { readOnly: true, type: { kind: 'timestamp', zoned: true } }),
  ],
  can: { list: true, read: true, create: true, change: true, remove: true },
  changed: null,
  created: 'at',
  version: null,
  findBy: [],
})

const LANE: TwoWayLane = {
  a: 'remarks',
  b: 'comments',
  originate: 'both',
  fields: [
    { a: 'of', b: 'of', direction: 'both' },
    {
      a: 'body',
      b: 'body',
      direction: 'both',
      rule: { as: 'attributed', a: '{author}, {at}: ', b: '{author}: ' },
    },
  ],
  conflict: 'the later',
  tie: 'a',
  first: 'the later',
}
const PARENTS: TwoWayLane = { ...LANE, a: 'tickets', b: 'jobs', fields: [] }
const OBJECTS = { a: remarks('remarks', 'tickets'), b: remarks('comments', 'jobs') }
const lane = compileLane(LANE, OBJECTS, [LANE, PARENTS])

const nothing: Find = () => 'not yet'
const leads: Find = (_, value) => ({ is: value === 'T1' ? 'J1' : 'T1' })

const said = (side: Side, values: Record<string, string>): Pair => ({
  id: 'p',
  lane: lane.name,
  origin: side,
  halves: {
    a: null,
    b: null,
    [side]: halfOf(lane, side, 'r1', { author: 'o.marsh', at: '2026-11-03T09:05:59Z', ...values }),
  },
  base: {},
  state: 'in step',
  held: [],
  alone: false,
  waits: false,
})

/** What is written there, and the pair once that is answered. */
function carried(pair: Pair, find: Find, side: Side, own: Record<string, string> = {}) {
  const decided = decidePair(lane, pair, find)
  expect(Object.keys(decided.writes)).toEqual([side])
  const { values } = decided.writes[side]!
  const record = { ...pair.halves[side]?.record, id: 'r2', author: 'us', at: '2026-11-03T09:06:03Z' }
  const answer = { [side]: { id: 'r2', record: { ...record, ...values, ...own } } }
  return { values, pair: settledPair(lane, pair, decided, answer) }
}

function edited(pair: Pair, side: Side, body: string): Pair {
  const half = pair.halves[side]!
  return {
    ...pair,
    halves: { ...pair.halves, [side]: { ...half, record: { ...half.record, body } } },
  }
}

describe('a remark', () => {
  test('waits for the other half of what it is of, and nobody is asked about that', () => {
    const pair = said('a', { of: 'T1', body: 'The hinge is ordered' })
    const decided = decidePair(lane, pair, nothing)
    expect(decided).toMatchObject({ writes: {}, held: [] })
    const waiting = settledPair(lane, pair, decided, {})
    expect(waiting).toMatchObject({ waits: true, held: [], base: {}, halves: { b: null } })
    expect(carried(waiting, leads, 'b').values).toEqual({
      of: 'J1',
      body: 'o.marsh, 3 Nov 2026, 09:05 UTC: The hinge is ordered',
    })
  })

  test.each<[Side, Side, string, string]>([
    ['a', 'b', 'T1', 'o.marsh, 3 Nov 2026, 09:05 UTC: '],
    ['b', 'a', 'J1', 'o.marsh: '],
  ])('of %s is followed on %s, whoever edits it; an echo is none', (from, to, of, before) => {
    const made = carried(said(from, { of, body: 'Ordered' }), leads, to).pair
    expect(decidePair(lane, made, leads)).toMatchObject({ writes: {}, held: [], waits: false })
    expect(made.waits).toBe(false)
    const corrected = carried(edited(made, from, 'Ordered twice'), leads, to)
    expect(corrected.values).toEqual({ body: `${before}Ordered twice` })
    const there = carried(edited(corrected.pair, to, `${before}Ordered once`), leads, from)
    expect(there.values).toEqual({ body: 'Ordered once' })
    expect(decidePair(lane, there.pair, leads).writes).toEqual({})
  })

  test('that lacks something else is held all the same', () => {
    const { held, writes } = decidePair(lane, said('a', { of: 'T1' }), nothing)
    expect([held.length, writes]).toEqual([1, {}])
    expect(held[0]).toMatchObject({ join: null, why: 'no value', side: 'b' })
  })
})

test('only moments are put in words', () => {
  expect(inWords('2026-11-03T09:05:59.5+02:00', OBJECTS.a, 'at')).toBe('3 Nov 2026, 07:05 UTC')
  for (const other of ['some day', '', null]) expect(inWords(other, OBJECTS.a, 'at')).toBe(other)
  expect(inWords('2026-11-03T09:05:59Z', OBJECTS.a, 'body')).toBe('2026-11-03T09:05:59Z')
})
