/** People go on editing while both sides of a pair are being written to: no edit is gone, and none that was taken back comes again. */
import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { AppObject } from '../src/app/object.ts'
import type { TwoWayLane } from '../src/definition/two-way.ts'
import { decidePair, settledPair } from '../src/two-way/decide.ts'
import { compileLane, halfOf } from '../src/two-way/lane.ts'
import type { Pair } from '../src/two-way/pair.ts'
import { field } from './app-field.ts'

type Side = 'a' | 'b'
const SIDES = ['a', 'b'] as const

const set = { type: { kind: 'list', of: { kind: 'utf8' } } } as const
const object: AppObject = {
  name: 'tickets',
  title: 'Tickets',
  key: 'id',
  label: null,
  fields: [field('id', { readOnly: true }), field('labels', set), field('notes')],
  can: { list: true, read: true, create: true, change: true, remove: true },
  changed: null,
  created: null,
  version: null,
  findBy: [],
}
const LANE: TwoWayLane = {
  a: 'tickets',
  b: 'tickets',
  originate: 'both',
  fields: [
    { a: 'labels', b: 'labels', direction: 'both' },
    { a: 'notes', b: 'notes', direction: 'both', conflict: 'by line' },
  ],
  conflict: 'the later',
  tie: 'a',
  first: 'a',
}

/** Two records of which each side's people write elements and lines of their own; B ends its lines in another way. */
class World {
  readonly lane = compileLane(LANE, { a: object, b: object }, [LANE])
  readonly elements = { a: new Set<string>(), b: new Set<string>() }
  readonly lines = { a: 'a', b: 'b' }
  readonly rows = {
    a: { labels: '[]', notes: 'a\nbetween\nb\nbehind' },
    b: { labels: '[]', notes: 'a\r\nbetween\r\nb\r\nbehind' },
  }
  writes = 0
  private pair: Pair

  constructor() {
    const { labels, notes } = this.rows.a
    this.pair = {
      id: 'p',
      lane: this.lane.name,
      state: 'in step',
      origin: 'a',
      halves: { a: this.half('a'), b: this.half('b') },
      base: {},
      held: [],
      alone: false,
      waits: false,
    }
    const [byElement, byLine] = this.lane.names as [string, string]
    this.pair = {
      ...this.pair,
      base: { [byElement]: [labels, labels], [byLine]: [notes, this.rows.b.notes] },
    }
  }

  private half(side: Side) {
    return halfOf(this.lane, side, '1', { id: '1', ...this.rows[side] })
  }

  toggle(side: Side, n: number): void {
    const element = `${side}${n}`
    const { [side]: own } = this.elements
    if (!own.delete(element)) own.add(element)
    const there = JSON.parse(this.rows[side].labels) as string[]
    const without = there.filter(one => one !== element)
    this.rows[side].labels = JSON.stringify(own.has(element) ? [...without, element] : without)
  }

  line(side: Side, n: number): void {
    const [was, now] = [this.lines[side], `${side} ${n}`]
    this.lines[side] = now
    this.rows[side].notes = this.rows[side].notes
      .split(/(\r?\n)/)
      .map(one => (one === was ? now : one))
      .join('')
  }

  read(): void {
    this.pair = { ...this.pair, halves: { a: this.half('a'), b: this.half('b') } }
  }

  /** Makes one write, unless somebody was faster; false: there was nothing to write. */
  write(): boolean {
    const decided = decidePair(this.lane, this.pair, () => 'not yet')
    const side = SIDES.find(one => decided.writes[one])
    if (!side) {
      this.pair = settledPair(this.lane, this.pair, decided, {})
      return false
    }
    if (JSON.stringify(this.half(side)) !== JSON.stringify(this.pair.halves[side])) {
      this.pair = { ...this.pair, halves: { ...this.pair.halves, [side]: this.half(side) } }
      return true
    }
    this.writes++
    Object.assign(this.rows[side], decided.writes[side]!.values)
    this.rows[side].labels ??= '[]'
    this.pair = settledPair(this.lane, this.pair, decided, {
      [side]: { id: '1', record: { id: '1', ...this.rows[side] } },
    })
    return true
  }

  get held() {
    return this.pair.held
  }
}

const step = fc.record({
  does: fc.constantFrom('toggle', 'line', 'read', 'write', 'write'),
  side: fc.constantFrom<Side>('a', 'b'),
  n: fc.nat(2),
})

test('each side has what its people did last, and says the same as the other', () => {
  fc.assert(
    fc.property(fc.array(step, { maxLength: 40 }), steps => {
      const world = new World()
      for (const { does, side, n } of steps) {
        if (does === 'read' || does === 'write') world[does]()
        else world[does](side, n)
      }
      for (let round = 0; round < 3; round++) {
        world.read()
        for (let i = 0; world.write(); i++) if (i > 6) throw new Error('It goes back and forth.')
        expect(world.held).toEqual([])
      }
      const labels = [...world.elements.a, ...world.elements.b].sort()
      for (const side of SIDES) {
        expect((JSON.parse(world.rows[side].labels) as string[]).sort()).toEqual(labels)
        expect(world.rows[side].notes.split(/\r?\n/)).toEqual([
          world.lines.a,
          'between',
          world.lines.b,
          'behind',
        ])
      }
    }),
    { numRuns: 1000 },
  )
})
