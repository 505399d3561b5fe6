/** A lane between two sides that make of values what they like: new records, echoes, edits on both sides, rings. */
import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { AppField, AppObject } from '../src/app/object.ts'
import type { Definition } from '../src/definition/definition.ts'
import type { TwoWayDefinition, TwoWayLane } from '../src/definition/two-way.ts'
import { decideGone, decidePair, settledPair } from '../src/two-way/decide.ts'
import { gather } from '../src/two-way/gather.ts'
import { compileLane, halfOf } from '../src/two-way/lane.ts'
import type { Half, Pair } from '../src/two-way/pair.ts'
import { ringOf } from '../src/two-way/ring.ts'
import { field } from './app-field.ts'

type Side = 'a' | 'b'
type Row = Record<string, string | null>

const set = { type: { kind: 'list', of: { kind: 'utf8' } } } as const

const objectOf = (name: string, fields: AppField[]): AppObject => ({
  name,
  title: name,
  key: 'id',
  label: 'name',
  fields: [field('id', { readOnly: true }), ...fields],
  can: { list: true, read: true, create: true, change: true, remove: true },
  changed: 'at',
  created: null,
  version: null,
  findBy: [],
})

const OBJECTS = {
  a: objectOf('tickets', [
    field('name', { required: true }),
    field('status', { choices: ['new', 'planned', 'done', 'dropped'] }),
    field('labels', set),
    field('given'),
    field('link'),
    field('at', { type: { kind: 'timestamp', zoned: true }, readOnly: true }),
  ]),
  b: objectOf('jobs', [
    field('job', { required: true }),
    field('stage', { choices: ['to do', 'finished'] }),
    field('tags', set),
    field('taken'),
    field('link'),
    field('at', { type: { kind: 'timestamp', zoned: true }, readOnly: true }),
  ]),
}

const MEANS = [
  { a: 'new', b: 'to do' },
  { a: 'planned', b: 'to do', first: true as const },
  { a: 'done', b: 'finished', first: true as const },
  { a: 'dropped', b: 'finished' },
]

const LANE: TwoWayLane = {
  a: 'tickets',
  b: 'jobs',
  originate: 'both',
  fields: [
    {
      a: 'name',
      b: 'job',
      direction: 'both',
      rule: { as: 'affixed', affix: { on: 'b', before: '{id} ', behind: '' } },
    },
    {
      a: 'status',
      b: 'stage',
      direction: 'both',
      rule: { as: 'mapped', map: { pairs: MEANS, others: 'held' } },
    },
    { a: 'labels', b: 'tags', direction: 'both' },
    { a: 'given', b: 'taken', direction: 'a to b', against: 'put back' },
  ],
  conflict: 'the later',
  tie: 'a',
  first: 'the later',
  links: { a: 'link', b: 'link' },
}

/** A side that trims texts and sorts sets. */
class World {
  readonly lane = compileLane(LANE, OBJECTS, [LANE])
  readonly rows: Record<Side, Map<string, Row>> = { a: new Map(), b: new Map() }
  readonly touched: Record<Side, Set<string>> = { a: new Set(), b: new Set() }
  pairs: Pair[] = []
  writes = 0
  private clock = 0
  private ids = 0

  write(side: Side, id: string | null, values: Row): string {
    const key = id ?? `${side}${++this.ids}`
    // A set of nothing is an empty list there, whoever makes the record.
    const before = this.rows[side].get(key) ?? { id: key, [side === 'a' ? 'labels' : 'tags']: '[]' }
    const normal = Object.entries(values).map(([name, value]) => [name, kept(value)])
    this.rows[side].set(key, {
      ...before,
      ...Object.fromEntries(normal),
      at: new Date(++this.clock * 1000).toISOString(),
    } as Row)
    this.touched[side].add(key)
    return key
  }

  pass(): void {
    const records = { a: this.taken('a'), b: this.taken('b') }
    const gathered = gather(this.lane, {
      records,
      known: this.pairs,
      strangers: [],
      now: '2026-01-01T00:00:00Z',
      newId: () => `p${++this.ids}`,
    })
    let open = gathered.pairs
    this.pairs = []
    for (let round = 0; open.length > 0; round++) {
      if (round > 6) throw new Error('it goes back and forth')
      const next: Pair[] = []
      for (const pair of open) {
        const decided = decidePair(this.lane, pair, () => 'not yet')
        const side = (['a', 'b'] as const).find(one => decided.writes[one])
        if (!side) {
          this.pairs.push(settledPair(this.lane, pair, decided, {}))
          continue
        }
        this.writes++
        const id = this.write(side, pair.halves[side]?.id ?? null, decided.writes[side]!.values)
        const after = settledPair(this.lane, pair, decided, {
          [side]: { id, record: this.rows[side].get(id)! },
        })
        if (after.waits) next.push(after)
        else this.pairs.push(after)
      }
      open = next
    }
  }

  private taken(side: Side): Map<string, Half> {
    const ids = [...this.touched[side]]
    this.touched[side].clear()
    return new Map(ids.map(id => [id, halfOf(this.lane, side, id, this.rows[side].get(id)!)]))
  }
}

function kept(value: string | null): string | null {
  if (value?.startsWith('[')) return JSON.stringify([...new Set(JSON.parse(value) as string[])].sort())
  return value === null ? null : value.trim() || null
}

const word = fc.constantFrom('x', ' y ', 'RKB', '“q”', 'größer', 'a1 a1')
const elements = fc
  .uniqueArray(fc.constantFrom('red', 'blue', 'ä b', '"q"'))
  .map(list => JSON.stringify(list))
const edit = fc.record({
  side: fc.constantFrom<Side>('a', 'b'),
  which: fc.nat(20),
  fresh: fc.boolean(),
  name: word,
  status: fc.nat(3),
  set: elements,
  given: fc.option(word),
  what: fc.constantFrom('name', 'status', 'set', 'given', 'link'),
})
type Edit = typeof edit extends fc.Arbitrary<infer T> ? T : never

function carryOut(world: World, { side, which, fresh, name, status, set: list, given, what }: Edit): void {
  const values: Record<string, Row> =
    side === 'a'
      ? {
          name: { name },
          status: { status: MEANS[status]!.a },
          set: { labels: list },
          given: { given },
          link: { link: null },
        }
      : {
          name: { job: name },
          status: { stage: MEANS[status]!.b },
          set: { tags: list },
          given: { taken: given },
          link: { link: null },
        }
  const ids = [...world.rows[side].keys()]
  if (fresh || ids.length === 0) world.write(side, null, { ...values.name, ...values.set })
  else world.write(side, ids[which % ids.length]!, values[what]!)
}

describe('a lane', () => {
  test('comes to rest with every record once on each side, saying the same, whatever people do', () => {
    fc.assert(
      fc.property(fc.array(fc.array(edit, { maxLength: 5 }), { maxLength: 8 }), rounds => {
        const world = new World()
        for (const edits of rounds) {
          for (const one of edits) carryOut(world, one)
          world.pass()
        }
        world.pass()
        const before = world.writes
        world.pass()
        expect(world.writes).toBe(before)
        expect(world.pairs).toHaveLength(world.rows.a.size)
        expect(world.rows.a.size).toBe(world.rows.b.size)
        const gone = { ...world.lane, lane: { ...LANE, gone: { a: 'delete', b: 'delete' } as const } }
        for (const pair of world.pairs) {
          const { halves, held } = pair
          expect(held).toEqual([])
          // What is at rest was edited by nobody, should its other half go.
          for (const side of ['a', 'b'] as const)
            expect(decideGone(gone, pair, side)).toEqual({ do: 'remove' })
          const [a, b] = [world.rows.a.get(halves.a!.id)!, world.rows.b.get(halves.b!.id)!]
          expect([a.link, b.link]).toEqual([b.id, a.id])
          expect([`${a.id} ${a.name}`, a.name]).toContain(b.job)
          expect(b.stage ?? null).toBe(MEANS.find(one => one.a === a.status)?.b ?? null)
          expect(b.tags ?? '[]').toBe(a.labels ?? '[]')
          if (a.given) expect(b.taken).toBe(a.given)
        }
      }),
    )
  })

  test('a record that starts where text is put around it gets that text once it has its other half', () => {
    const world = new World()
    const id = world.write('b', null, { job: 'Mend the gate', tags: '["red"]' })
    world.pass()
    const [a] = world.rows.a.values()
    expect(a).toMatchObject({ name: 'Mend the gate', labels: '["red"]', link: id })
    expect(world.rows.b.get(id)).toMatchObject({ job: `${a!.id} Mend the gate`, link: a!.id })
  })

  test('what cannot be said for a required field is held, and nothing is made', () => {
    const world = new World()
    world.write('a', null, { status: 'done' })
    world.pass()
    expect(world.rows.b.size).toBe(0)
    expect(world.pairs[0]!.held[0]).toMatchObject({ join: null, why: 'no value', side: 'b' })
    world.write('a', [...world.rows.a.keys()][0]!, { name: 'At last' })
    world.pass()
    expect(world.rows.b.size).toBe(1)
    expect(world.pairs[0]!.held).toEqual([])
  })
})

test('pipelines that could carry a record round are named', () => {
  const pipeline = (name: string, from: string, to: string, lanes: [string, string][]): TwoWayDefinition => ({
    version: 2,
    shape: 'two-way',
    name,
    from,
    to,
    lanes: lanes.map(([a, b]) => ({ ...LANE, a, b })),
  })
  const sends: Definition = {
    version: 2,
    shape: 'send',
    name: 'S',
    from: 'db',
    to: 'x',
    what: { table: { namespace: 'n', name: 't' } },
    key: [],
    object: 'o',
    meets: [],
    may: 'create',
    fields: [],
  }
  const one = pipeline('1', 'x', 'y', [['o', 'p']])
  const two = pipeline('2', 'y', 'z', [['p', 'q']])
  const three = pipeline('3', 'z', 'x', [['q', 'o']])
  expect(ringOf(three, [one, two])).toEqual(['1', '2'])
  expect(ringOf(three, [one])).toBeUndefined()
  expect(ringOf(two, [one, two])).toBeUndefined()
  expect(ringOf(pipeline('3', 'z', 'x', [['q', 'other']]), [one, two])).toBeUndefined()
  // What is sent into a place comes back along two others.
  expect(
    ringOf(sends, [pipeline('4', 'x', 'y', [['o', 'p']]), pipeline('5', 'y', 'db', [['p', 'n.t']])]),
  ).toEqual(['4', '5'])
})
