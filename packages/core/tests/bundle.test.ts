import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { mainsOf, missingOf, relatedTo, tablesOf, type Bundle } from '../src/definition/bundle.ts'
import { chooser, chosenTables, withChosen, type Choice } from '../src/definition/choose.ts'
import type { Dataset, Reference } from '../src/records/dataset.ts'

const table = (name: string, columns: string[], refers: Reference[] = []): Dataset => ({
  namespace: 'nursery',
  name,
  kind: 'table',
  fields: columns.map(name => ({ name, type: { kind: 'utf8' }, nativeType: 'text', nullable: true })),
  key: [columns[0]!],
  refers,
  rows: 1,
  rowsExact: true,
  bytes: 1,
})
const to = (name: string, column: string, by = column): Reference => ({
  columns: [column],
  to: { namespace: 'nursery', name },
  by: [by],
})
const clubs = table('clubs', ['club_id'])
const dispatches = table('dispatches', ['dispatch_id', 'club'], [to('clubs', 'club', 'club_id')])
const lines = table('lines', ['line_id', 'dispatch'], [to('dispatches', 'dispatch', 'dispatch_id')])
const source = [clubs, dispatches, lines]
const bundle: Bundle = {
  name: 'dispatches with lines',
  main: { namespace: 'nursery', name: 'dispatches' },
  with: [{ table: { namespace: 'nursery', name: 'lines' }, on: [['dispatch', 'dispatch_id']] }],
}
const choice: Choice = { tables: [], bundles: [bundle] }
const names = (chosen: { name: string }[]) => chosen.map(({ name }) => name)

describe('bundles', () => {
  test('a table is one to begin with where any other is related to it, whatever refers to what', () => {
    const names = ['a', 'b', 'c', 'd', 'e']
    fc.assert(
      fc.property(
        fc.array(fc.tuple(fc.constantFrom(...names), fc.constantFrom(...names, 'gone')), { maxLength: 8 }),
        pairs => {
          const all = names.map(name =>
            table(
              name,
              ['id', 'other'],
              pairs.filter(([from]) => from === name).map(([, other]) => to(other, 'other', 'id')),
            ),
          )
          expect(mainsOf(all)).toEqual(all.filter(one => relatedTo(one, all).length > 0))
        },
      ),
    )
  })

  test('what refers to a table is its part, what it refers to can come along', () => {
    expect(relatedTo(dispatches, source)).toEqual([
      { table: { namespace: 'nursery', name: 'lines' }, on: [['dispatch', 'dispatch_id']], isPart: true },
      { table: { namespace: 'nursery', name: 'clubs' }, on: [['club_id', 'club']], isPart: false },
    ])
    expect(relatedTo(clubs, source)).toHaveLength(1)
    expect(names(tablesOf(bundle))).toEqual(['dispatches', 'lines'])
  })

  test('a table that refers to itself is no part of itself', () => {
    const beds = table('beds', ['bed_id', 'within'], [to('beds', 'within', 'bed_id')])
    expect(relatedTo(beds, [beds])).toEqual([])
  })

  test('its tables take part, once each, unless they are taken out by hand', () => {
    expect(names(chosenTables(choice, source))).toEqual(['dispatches', 'lines'])
    expect(names(chosenTables({ ...choice, tables: [lines] }, source))).toEqual(['lines', 'dispatches'])
    const out = withChosen(choice, [lines], false)
    expect(names(chosenTables(out, source))).toEqual(['dispatches'])
    expect(names(chosenTables(withChosen(out, [lines], true), source))).toEqual(['dispatches', 'lines'])
    expect(chooser(choice)(lines)).toEqual({ takesPart: true, by: 'bundle', bundle: bundle.name })
  })

  test('what it is joined by and is not there any more', () => {
    expect(missingOf(bundle, source)).toEqual([])
    const other = {
      ...bundle,
      with: [{ ...bundle.with[0]!, on: [['parcel', 'number']] as [string, string][] }],
    }
    expect(missingOf(other, source)).toEqual(['nursery.lines.parcel', 'nursery.dispatches.number'])
  })
})
