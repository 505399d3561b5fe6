import { describe, expect, test } from '@jest/globals'
import { fitName } from '@tide/core/naming/profile'
import { hinders } from '@tide/core/plan/note'
import { makePlan } from '@tide/core/plan/plan'
import type { PlanInput } from '@tide/core/plan/input'
import type { Dataset } from '@tide/core/records/dataset'
import { duckdbColumn, duckdbType } from '@tide/core/shape/duckdb'
import { postgresType } from '@tide/core/shape/postgres'

const table = (name: string, part: Partial<Dataset> = {}): Dataset => ({
  namespace: 'nursery',
  name,
  kind: 'table',
  fields: [
    { name: 'bed_id', type: { kind: 'int', bits: 32, signed: true }, nativeType: 'integer', nullable: false },
    {
      name: 'area',
      type: { kind: 'decimal', precision: 8, scale: 2 },
      nativeType: 'numeric(8,2)',
      nullable: true,
    },
  ],
  key: ['bed_id'],
  rows: 120,
  rowsExact: true,
  bytes: 8192,
  ...part,
})

const only = (source: Dataset[]): PlanInput['origins'] => [{ tag: '', sameKind: false, source }]

const input = (part: Partial<PlanInput> = {}): PlanInput => ({
  tables: [{ namespace: 'nursery', name: 'beds' }],
  targetSchema: 'nursery',
  names: [],
  origins: only([table('beds')]),
  target: [],
  targetSchemas: ['main'],
  profile: {
    naming: { fold: 'upper', allowed: 'word', maxLength: 12 },
    typeOf: duckdbColumn,
    nameKey: name => name.toLowerCase(),
    needsKey: 'unique',
    keepsOthers: true,
  },
  claims: [],
  own: [],
  ...part,
})
const refusals = (part: Partial<PlanInput>) =>
  makePlan(input(part))
    .notes.filter(hinders)
    .map(note => note.message)

describe('plan', () => {
  test('creates the schema and the tables under the target’s names', () => {
    const plan = makePlan(input())
    expect(plan.notes).toEqual([])
    expect(plan.steps.map(step => step.step)).toEqual(['create schema', 'create table'])
    expect(plan.lanes[0]).toMatchObject({
      target: { namespace: 'NURSERY', name: 'BEDS' },
      rows: 120,
      identity: ['bed_id'],
      key: ['BED_ID'],
    })
    expect(plan.lanes[0]!.writes.map(({ name, nativeType }) => `${name} ${nativeType}`)).toEqual([
      'BED_ID INTEGER',
      'AREA DECIMAL(8,2)',
    ])
  })

  test.each<[string, Partial<PlanInput>, string]>([
    [
      'a table without a key',
      { origins: only([table('beds', { key: [] })]) },
      'nursery.beds has no key. Changes to its rows cannot be told apart.',
    ],
    ['a vanished table', { origins: only([]) }, 'nursery.beds is not there any more.'],
    ['no table', { tables: [] }, 'No table is chosen.'],
    [
      'a schema name that does not fit',
      { targetSchema: 'my beds' },
      'The target will not take the schema name MY BEDS: it holds a space.',
    ],
    [
      'a table of another pipeline, whatever its case',
      { claims: [{ pipeline: 'Beds nightly', table: { namespace: 'Nursery', name: 'beds' } }] },
      'NURSERY.BEDS belongs to the pipeline “Beds nightly”.',
    ],
  ])('refuses %s', (_, part, message) => {
    expect(refusals(part)).toEqual([message])
  })

  test('what nobody has said yet hinders a start too, and is told apart from what is refused', () => {
    const { notes } = makePlan(input({ tables: [], targetSchema: '' }))
    expect(notes.map(({ level, message }) => `${level}: ${message}`)).toEqual([
      'undecided: No table is chosen.',
    ])
  })

  test('refuses names that the target will not take, with the reason', () => {
    const odd = { namespace: 'Field Notes', name: 'Plot / Row' }
    expect(refusals({ tables: [odd], origins: only([table('', odd)]) })).toEqual([
      'The target will not take the name of "Field Notes"."Plot / Row": it holds a space, “/”.',
    ])
  })

  test('refuses two tables that meet in one', () => {
    const tables = ['beds', 'Beds'].map(name => ({ namespace: 'nursery', name }))
    expect(refusals({ tables, origins: only([table('beds'), table('Beds')]) })).toEqual([
      'nursery.beds and nursery.Beds would both go into NURSERY.BEDS.',
    ])
  })

  test('replaces the pipeline’s own tables, and says how many rows go', () => {
    const target = [table('BEDS', { namespace: 'NURSERY', rows: 7 })]
    const plan = makePlan(
      input({ target, targetSchemas: ['NURSERY'], own: [{ namespace: 'NURSERY', name: 'BEDS' }] }),
    )
    expect(plan.steps.map(step => step.step)).toEqual(['replace table'])
    expect(plan.notes.map(note => `${note.level}: ${note.message}`)).toEqual([
      'loss: NURSERY.BEDS and its 7 rows are replaced.',
    ])
  })
})

describe('types', () => {
  test.each([
    ['numeric', 524294, 'N', 'DECIMAL(8,2)'],
    ['numeric', (38 << 16) + 10 + 4, 'N', 'DECIMAL(38,10)'],
    ['numeric', (5 << 16) + (-2 & 0x7ff) + 4, 'N', 'VARCHAR'],
    ['numeric', -1, 'N', 'VARCHAR'],
    ['int8', -1, 'N', 'BIGINT'],
    ['timestamptz', -1, 'D', 'TIMESTAMPTZ'],
    ['jsonb', -1, 'U', 'JSON'],
    ['stage', -1, 'E', 'VARCHAR'],
    ['point', -1, 'G', 'VARCHAR'],
  ])('PostgreSQL %s (modifier %i, category %s) becomes %s', (typname, typmod, category, native) => {
    expect(duckdbType(postgresType({ typname, typmod, category, builtIn: true })).native).toBe(native)
  })
})

describe('names', () => {
  test('length counts characters, not code units', () => {
    const profile = { fold: 'none', allowed: 'any', maxLength: 2 } as const
    expect(fitName('🌱🌱', profile)).toEqual({ name: '🌱🌱' })
    expect(fitName('abc', profile)).toEqual({
      name: 'abc',
      refused: 'it is 3 characters long, the limit is 2',
    })
  })
})
