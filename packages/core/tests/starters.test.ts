import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { AppObject } from '../src/app/object.ts'
import type { TwoWayLane } from '../src/definition/two-way.ts'
import { other, type Side } from '../src/merge/rule.ts'
import { compileLane } from '../src/two-way/lane.ts'
import { planTwoWay } from '../src/two-way/plan.ts'
import { A_DATABASE, STARTERS } from '../src/two-way/starter-lanes.ts'
import { startersFor, withMade, type Starter } from '../src/two-way/starters.ts'
import { field } from './app-field.ts'

const objectWith = (name: string, fields: string[]): AppObject => ({
  name,
  title: name,
  key: 'id',
  label: null,
  fields: [...new Set(['id', ...fields])].map(one => field(one)),
  can: { list: true, read: true, create: true, change: true, remove: true },
  changed: null,
  created: null,
  version: null,
  findBy: [],
})

/** What a side would have if it had all that the starter names. */
function allOf({ lanes }: (typeof STARTERS)[number], side: Side): AppObject[] {
  return lanes.map(lane =>
    objectWith(lane[side], [
      ...lane.fields.map(join => join[side]),
      ...(lane.links?.[side] === undefined ? [] : [lane.links[side]]),
      ...(lane.pair ?? []).flatMap(({ fields }) => fields.map(one => one[side])),
      ...(lane.scope?.[side] ? ['labels', 'tags', 'organisation'] : []),
      'author',
      'created_at',
    ]),
  )
}

const made = (starter: Starter, side: Side, far: readonly AppObject[]) =>
  starter.lanes.map(one => {
    const { lacks, lane } = one
    if (!lacks) return lane
    expect(lacks.side).toBe(side)
    const { into, fields = [], link } = lacks.wanted
    const place = 'place' in into ? into.place : `the new ${into.table}`
    const joins = fields.map(name => ({ field: name, column: `new_${name}` }))
    const answer = { place, joins, link: link === null ? null : 'new_link' }
    return withMade(
      one,
      side,
      answer,
      far.find(({ name }) => name === lane[other(side)])!,
    )
  })

test.each(STARTERS)('$title: whatever is not there is made or left out, and the lanes hold', starter => {
  const whole = { a: allOf(starter, 'a'), b: allOf(starter, 'b') }
  fc.assert(
    fc.property(fc.infiniteStream(fc.boolean()), fc.boolean(), (keep, turned) => {
      // One side has less than it names.
      const less = whole.b.flatMap(object => {
        const fields = object.fields.filter(({ name }) => name === 'id' || keep.next().value)
        return keep.next().value ? [{ ...object, fields }] : []
      })
      const [near, far] = turned ? (['a', 'b'] as const) : (['b', 'a'] as const)
      const objects = { [near]: less, [far]: whole.a } as Record<Side, AppObject[]>
      const called = {
        [near]: starter.apps.b === A_DATABASE ? 'office' : starter.apps.b,
        [far]: starter.apps.a,
      } as Record<Side, string>
      const schema = starter.apps.b === A_DATABASE ? 'public' : null
      const [found] = startersFor({ called, objects, makes: { [near]: { schema } } })
      expect(found!.lanes).toHaveLength(starter.lanes.length)
      const lanes = made(found!, near, whole.a)
      for (const [i, lane] of lanes.entries()) {
        // All that the starter names is joined, whether it was there or was made.
        expect(lane.fields).toHaveLength(starter.lanes[i]!.fields.length)
        const object = (side: Side) =>
          side === far
            ? whole.a.find(({ name }) => name === lane[side])!
            : objectWith(lane[side], [
                ...(less.find(({ name }) => name === lane[side])?.fields.map(({ name }) => name) ?? []),
                ...lane.fields.map(join => join[side]).filter(name => name.startsWith('new_')),
                'new_link',
              ])
        const there = { a: object('a'), b: object('b') }
        expect(() => compileLane(scopeless(lane), there, lanes)).not.toThrow()
      }
      const notes = planTwoWay({
        definition: {
          version: 2,
          shape: 'two-way',
          name: 'A starter',
          from: 'x',
          to: 'y',
          lanes: lanes.map(scopeless),
          every: 5,
        },
        objects: {
          ...objects,
          [near]: lanes.map(lane =>
            objectWith(lane[near], [
              ...(less.find(({ name }) => name === lane[near])?.fields.map(({ name }) => name) ?? []),
              ...lane.fields.map(join => join[near]),
              'new_link',
              'author',
              'created_at',
            ]),
          ),
        },
        called,
      })
      expect(notes.filter(({ level }) => level === 'refused')).toEqual([])
      // Where nothing can be made it is left out.
      for (const { lane, lacks } of startersFor({ called, objects, makes: {} })[0]?.lanes ?? []) {
        expect(lacks).toBeUndefined()
        for (const side of ['a', 'b'] as const) {
          const has = objects[side].find(({ name }) => name === lane[side])!.fields.map(({ name }) => name)
          expect(has).toEqual(expect.arrayContaining(lane.fields.map(join => join[side])))
        }
      }
    }),
    { numRuns: 60 },
  )
})

/** Conditions are on fields of types that are not made up here. */
function scopeless({ scope: _, ...lane }: TwoWayLane): TwoWayLane {
  return lane
}
