/** From the plan that runs to another one: what is done is enough, and no more than said. */
import { describe, expect, test } from '@jest/globals'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import { pendingOf } from '@tide/core/definition/pipeline'
import type { LaneFate } from '@tide/core/plan/change'
import type { PlanInput } from '@tide/core/plan/input'
import { laneId, type Lane } from '@tide/core/plan/lane'
import { hinders } from '@tide/core/plan/note'
import { makePlan, type Plan } from '@tide/core/plan/plan'
import { datasetId, type Dataset } from '@tide/core/records/dataset'
import { duckdbColumn } from '@tide/core/shape/duckdb'
import fc from 'fast-check'

const TABLES = ['beds', 'tools', 'rota']
const COLUMNS = ['id', 'a', 'b', 'c']
const dataset = (name: string): Dataset => ({
  namespace: 'site',
  name,
  kind: 'table',
  fields: COLUMNS.map(name => ({
    name,
    type: { kind: 'utf8' },
    nativeType: 'text',
    nullable: name !== 'id',
  })),
  key: ['id'],
  rows: 5,
  rowsExact: true,
  bytes: 10,
})

type Part = Partial<PlanInput>
const PROFILE: PlanInput['profile'] = {
  naming: { fold: 'none', allowed: 'any', maxLength: 60 },
  typeOf: duckdbColumn,
  nameKey: name => name.toLowerCase(),
  needsKey: 'unique',
  keepsOthers: true,
}

function planOf(part: Part, running?: readonly Lane[], tags = ['']): Plan {
  const target = (running ?? []).map(({ target }) => ({ ...dataset(''), ...target }))
  const once = [...new Map(target.map(one => [datasetId(one), one])).values()]
  return makePlan({
    tables: TABLES.map(name => ({ namespace: 'site', name })),
    targetSchema: 'w',
    names: [],
    origins: tags.map(tag => ({ tag, source: TABLES.map(dataset), sameKind: false })),
    target: once,
    targetSchemas: ['w'],
    profile: PROFILE,
    claims: [],
    own: once,
    ...(running ? { running } : {}),
    ...part,
  })
}

/** As the store gives lanes back: with their properties in another order. */
const stored = (lanes: readonly Lane[]): Lane[] => JSON.parse(canonicalJson(lanes)) as Lane[]
const change = (before: Part, after: Part, tags?: string[]) =>
  planOf(after, stored(planOf(before, undefined, tags).lanes), tags)
const fates = ({ lanes, change }: Plan): Record<string, LaneFate> =>
  Object.fromEntries(lanes.map(({ source }, i) => [source.name, change!.lanes[i]!.fate]))

describe('what becomes of lanes', () => {
  const all = (fate: LaneFate) => Object.fromEntries(TABLES.map(name => [name, fate]))

  test('they stay where nothing is changed for them, and nothing is done', () => {
    const plan = change({}, {})
    expect(fates(plan)).toEqual(all('stays'))
    expect([plan.steps, plan.notes, plan.rows]).toEqual([[], [], 0])
  })

  test('names are altered in place, and what is left out goes', () => {
    const plan = change(
      {},
      {
        names: [
          { names: 'tables', like: 'site.beds', does: { call: 'plots' } },
          { names: 'columns', like: 'site.beds.id', does: { call: 'number' } },
        ],
        columns: [{ like: 'site.beds.b', does: { leave: 'out' } }],
      },
    )
    expect(fates(plan)).toEqual({ ...all('stays'), beds: 'altered' })
    expect(plan.steps).toEqual([
      {
        step: 'alter table',
        table: { namespace: 'w', name: 'beds' },
        to: { namespace: 'w', name: 'plots' },
        drops: ['b'],
        renames: [{ from: 'id', to: 'number' }],
        adds: [],
      },
    ])
    expect(plan.notes.map(({ level }) => level)).toEqual(['loss', 'warning'])
  })

  test('a table is copied again where its rows would be others', () => {
    const again: Part[] = [
      { columns: [{ like: 'site.beds.a', does: { mask: 'hash' } }] },
      { columns: [{ like: 'site.beds', does: { add: 'k', constant: 'x' } }], does: 'follow' },
      { scopes: [{ like: 'site.beds', where: { column: 'a', isNull: false } }] },
    ]
    for (const part of again)
      expect(fates(change({}, part))).toEqual({ ...all('stays'), beds: 'copied again' })
    expect(change({}, again[2]!).steps).toEqual([])
    // What was left out was never read.
    const left: Part = { columns: [{ like: 'site.beds.a', does: { leave: 'out' } }] }
    expect(fates(change(left, {}))).toEqual({ ...all('stays'), beds: 'copied again' })
    // Names that change places are too much for one statement after another.
    const swapped: Part = {
      names: [
        { names: 'columns', like: 'site.beds.a', does: { call: 'b' } },
        { names: 'columns', like: 'site.beds.b', does: { call: 'a' } },
      ],
    }
    expect(fates(change({}, swapped))).toEqual({ ...all('stays'), beds: 'copied again' })
  })

  test('a column that is new, or made otherwise, is filled in the rows that are there', () => {
    const computed = (expression: string): Part => ({
      columns: [{ like: 'site.beds', does: { add: 'k', compute: expression } }],
    })
    const added = change({}, computed('a'))
    expect(fates(added)).toEqual({ ...all('stays'), beds: 'filled' })
    expect(added.steps).toMatchObject([{ step: 'alter table', drops: [], adds: [{ name: 'k' }] }])
    expect(added.steps[0]).not.toHaveProperty('fills')
    expect(added.rows).toBe(5)
    const otherwise = change(computed('a'), computed('b'))
    expect(fates(otherwise)).toEqual({ ...all('stays'), beds: 'filled' })
    expect(otherwise.steps).toEqual([])
    // Clear values must be gone at once; a key says which row it is.
    const masked: Part = { columns: [{ like: 'site.beds.a', does: { mask: 'hash' } }] }
    expect(fates(change({}, masked)).beds).toBe('copied again')
    expect(fates(change(masked, {})).beds).toBe('filled')
    const pending = pendingOf(planOf({}), added.lanes, added.change!.lanes, '')
    expect(pending.map(({ over = false, again }) => [over, again])).toEqual(
      added.lanes.map(({ source }) => [source.name === 'beds', false]),
    )
  })

  test('rows that stayed at the target are not told from others by a plan under which they go', () => {
    expect(fates(change({}, { deletes: 'keep' }))).toEqual(all('goes on'))
    expect(fates(change({}, { deletes: { mark: 'gone' } }))).toEqual(all('altered'))
    expect(fates(change({ deletes: 'keep' }, {}))).toEqual(all('copied again'))
    expect(fates(change({ deletes: { mark: 'gone' } }, {}))).toEqual(all('copied again'))
  })

  test('tables come and go; what goes stays at the target', () => {
    const two = { tables: TABLES.slice(0, 2).map(name => ({ namespace: 'site', name })) }
    const more = change(two, {})
    expect(fates(more)).toEqual({ ...all('stays'), rota: 'copied' })
    expect(more.rows).toBe(5)
    const fewer = change({}, two)
    expect([fewer.change!.takenOut, fewer.steps]).toEqual([[2], []])
    expect(fewer.notes.map(({ message }) => message)).toEqual([
      'site.rota is not followed any more; w.rota stays as it is then.',
    ])
  })

  test('of origins that share a table, all are altered alike, or all are copied again', () => {
    const tags = ['north', 'south']
    const renamed = change(
      {},
      { names: [{ names: 'columns', like: 'site.beds.a', does: { call: 'z' } }] },
      tags,
    )
    expect(renamed.steps).toHaveLength(1)
    expect(renamed.change!.lanes.filter(({ fate }) => fate === 'altered')).toHaveLength(2)
    const third = planOf({}, stored(planOf({}, undefined, tags).lanes), [...tags, 'west'])
    expect(third.steps).toEqual([])
    expect(third.change!.lanes.map(({ fate }) => fate)).toEqual(
      third.lanes.map(({ origin }) => (origin === 'west' ? 'copied' : 'stays')),
    )
    const running = planOf({}, undefined, tags)
    const parts = pendingOf(running, third.lanes, third.change!.lanes, 'south')
    expect(parts).toEqual(TABLES.map((_, was) => ({ was, again: false })))
    expect(pendingOf(running, third.lanes, third.change!.lanes, 'west')).toEqual(
      TABLES.map(() => ({ was: null, again: false })),
    )
  })
})

/** A table as far as it matters: for each column, what its rows hold of a row at the source. */
type Table = Map<string, string>

test.each<[string, Part]>([
  ['history', { history: true }],
  ['change files', { files: { as: 'changes' }, profile: { ...PROFILE, lake: true } }],
])('a mistake in an expression is said, also where every change is kept: %s', (_, part) => {
  const columns = [{ like: 'site.beds', does: { add: 'k', compute: 'nonsense || a' } }]
  expect(planOf({ ...part, columns }).notes).toContainEqual(
    expect.objectContaining({ level: 'refused', message: expect.stringContaining('nonsense') }),
  )
})

test('from any plan to any other, tables end up as if they had been made and copied by it', () => {
  const name = fc.constantFrom('a', 'b', 'x', 'Y', 'y', 'z')
  const column = fc
    .constantFrom(...TABLES)
    .chain(table => fc.constantFrom(...COLUMNS.slice(1)).map(one => `site.${table}.${one}`))
  const table = fc.constantFrom(...TABLES).map(one => `site.${one}`)
  const part: fc.Arbitrary<Part> = fc.record({
    tables: fc
      .subarray(TABLES, { minLength: 1 })
      .map(names => names.map(name => ({ namespace: 'site', name }))),
    names: fc.array(
      fc.oneof(
        fc.record({ names: fc.constant('columns' as const), like: column, does: fc.record({ call: name }) }),
        fc.record({
          names: fc.constant('tables' as const),
          like: table,
          does: fc.record({ call: fc.constantFrom('beds', 'tools', 'plots', 'Plots') }),
        }),
      ),
      { maxLength: 3 },
    ),
    columns: fc.array(
      fc.oneof(
        fc.record({
          like: column,
          does: fc.constantFrom({ leave: 'out' as const }, { mask: 'hash' as const }),
        }),
        fc.record({
          like: table,
          does: fc.oneof(
            fc.record({ add: name, constant: fc.constantFrom(null, 'k') }),
            fc.record({ add: name, metadata: fc.constantFrom('operation' as const, 'landed at' as const) }),
          ),
        }),
      ),
      { maxLength: 3 },
    ),
    scopes: fc.array(
      fc.record({ like: table, where: fc.constant({ column: 'a', isNull: false } as const) }),
      { maxLength: 1 },
    ),
    deletes: fc.constantFrom('remove' as const, 'keep' as const, { mark: 'gone' }),
  })
  const lowered = (one: string) => one.toLowerCase()
  const made = (lane: Lane): Table =>
    new Map(
      lane.writes.map(column => [column.name, canonicalJson([column.value, column.nativeType, lane.scope])]),
    )
  let altered = 0
  fc.assert(
    fc.property(part, part, fc.subarray(['', 'north', 'south'], { minLength: 1 }), (before, after, tags) => {
      const running = planOf(before, undefined, tags)
      if (running.notes.some(hinders)) return
      const next = planOf(after, stored(running.lanes), tags)
      if (next.notes.some(hinders)) return
      // What is done is done to the tables, by name; two that are the same to the target cannot both be there.
      const tables = new Map<string, Map<string, Table>>()
      for (const lane of running.lanes) {
        const key = lowered(lane.target.name)
        tables.set(key, (tables.get(key) ?? new Map<string, Table>()).set(lane.origin ?? '', made(lane)))
      }
      for (const step of next.steps) {
        if (step.step === 'create schema') continue
        const key = lowered(step.table.name)
        if (step.step === 'create table') expect(tables.has(key)).toBe(false)
        if (step.step !== 'alter table') {
          tables.set(key, new Map())
          continue
        }
        altered++
        const there = tables.get(key)!
        for (const parts of there.values()) {
          for (const drop of step.drops) expect(parts.delete(drop)).toBe(true)
          for (const { from, to } of step.renames) {
            expect([...parts.keys()].map(lowered)).not.toContain(lowered(to))
            parts.set(to, parts.get(from)!)
            expect(parts.delete(from)).toBe(true)
          }
          for (const { name } of step.adds) {
            expect([...parts.keys()].map(lowered)).not.toContain(lowered(name))
            parts.set(name, 'null')
          }
        }
        if (!step.to) continue
        expect(tables.has(lowered(step.to.name))).toBe(false)
        tables.set(lowered(step.to.name), there)
        tables.delete(key)
      }
      next.lanes.forEach((lane, i) => {
        const { was, fate } = next.change!.lanes[i]!
        const there = tables.get(lowered(lane.target.name))
        expect(was === null).toBe(!running.lanes.some(one => laneId(one) === laneId(lane)))
        // Whose part is emptied or new holds what the copy brings.
        if (fate === 'copied' || fate === 'copied again') return
        const own = there!.get(lane.origin ?? '')!
        const expected = [...made(lane)]
        expect([...own.keys()].sort()).toEqual(expected.map(([column]) => column).sort())
        // Written over by the copy.
        if (fate === 'filled') return
        for (const [column, value] of expected) {
          if (own.get(column) !== 'null') expect([column, own.get(column)]).toEqual([column, value])
          else expect(lane.writes.find(({ name }) => name === column)!.nullable).toBe(true)
        }
      })
    }),
    { numRuns: 2000 },
  )
  expect(altered).toBeGreaterThan(20)
})
