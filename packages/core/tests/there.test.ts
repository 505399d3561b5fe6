import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { LaneRule, There } from '@tide/core/definition/lane-rule'
import type { PlanInput, TargetProfile } from '@tide/core/plan/input'
import { makePlan } from '@tide/core/plan/plan'
import type { Dataset, Field } from '@tide/core/records/dataset'
import { duckdbColumn, duckdbLogical } from '@tide/core/shape/duckdb'
import { mariadbColumn } from '@tide/core/shape/mariadb'
import { postgresColumn } from '@tide/core/shape/postgres'
import type { LogicalType } from '@tide/core/records/types'

const int = (bits: 8 | 16 | 32 | 64): LogicalType => ({ kind: 'int', bits, signed: true })

const beds: Dataset = {
  namespace: 'nursery',
  name: 'beds',
  kind: 'table',
  fields: [
    { name: 'bed_id', type: int(32), nativeType: 'integer', nullable: false },
    { name: 'label', type: { kind: 'utf8' }, nativeType: 'varchar(20)', nullable: true },
    { name: 'made', type: { kind: 'timestamp', zoned: true }, nativeType: 'timestamptz', nullable: true },
  ],
  key: ['bed_id'],
  rows: 120,
  rowsExact: true,
  bytes: 8192,
}

const PROFILES = {
  postgres: {
    typeOf: ({ type, nativeType, sameKind }) => postgresColumn(type, sameKind ? nativeType : undefined),
    needsKey: 'unique',
    keepsOthers: true,
  },
  mariadb: { typeOf: mariadbColumn, needsKey: 'primary alone', keepsOthers: false },
  duckdb: { typeOf: duckdbColumn, needsKey: 'none', keepsOthers: false },
} satisfies Record<string, Pick<TargetProfile, 'typeOf' | 'needsKey' | 'keepsOthers'>>

const profileOf = (kind: keyof typeof PROFILES): TargetProfile => ({
  naming: { fold: 'none', allowed: 'any', maxLength: 63 },
  nameKey: name => name.toLowerCase(),
  ...PROFILES[kind],
})

const field = (name: string, nativeType: string, part: Partial<Field> = {}): Field => ({
  name,
  nativeType,
  type: { kind: 'other', native: nativeType },
  nullable: true,
  ...part,
})

/** A table at PostgreSQL just as it is needed. */
const fitting: Dataset = {
  namespace: 'there',
  name: 'beds',
  kind: 'table',
  fields: [
    field('bed_id', 'integer', { nullable: false }),
    field('label', 'text'),
    field('made', 'timestamp with time zone'),
  ],
  key: ['bed_id'],
  uniques: [{ columns: ['bed_id'], primary: true }],
  rows: 7,
  rowsExact: true,
  bytes: 8192,
}

const withField = (...fields: Field[]): Dataset => ({
  ...fitting,
  fields: [...fitting.fields.filter(({ name }) => !fields.some(one => one.name === name)), ...fields],
})

interface Given extends Partial<PlanInput> {
  kind?: keyof typeof PROFILES
}

function planned(there: Dataset, { kind = 'postgres', ...part }: Given = {}) {
  return makePlan({
    tables: [{ namespace: 'nursery', name: 'beds' }],
    targetSchema: 'there',
    names: [],
    origins: [{ tag: '', sameKind: false, source: [beds] }],
    target: [there],
    targetSchemas: ['there'],
    profile: profileOf(kind),
    claims: [],
    own: [],
    ...part,
  })
}
const notes = (there: Dataset, part?: Given) =>
  planned(there, part).notes.map(({ level, message }) => `${level}: ${message}`)

describe('a table that is at the target already', () => {
  test('must be decided on', () => {
    expect(notes(fitting)).toEqual([
      'undecided: there.beds is at the target already, with 7 rows that this pipeline did not put there.',
    ])
  })

  test.each<[There, string[], string | undefined]>([
    [{ rows: 'empty' }, ['empty table'], undefined],
    [{ rows: 'add' }, [], 'add'],
    [{ rows: 'are the copy' }, [], 'are the copy'],
    [{ structure: 'make anew' }, ['replace table'], undefined],
  ])('%j', (there, steps, rows) => {
    const plan = planned(fitting, { there })
    expect(plan.notes.filter(({ level }) => level === 'refused' || level === 'undecided')).toEqual([])
    expect(plan.steps.map(({ step }) => step)).toEqual(steps)
    expect(plan.lanes[0]!.there).toBe(rows)
    // What goes is said with its rows, and that others put it there.
    expect(plan.notes.filter(({ level }) => level === 'loss')).toHaveLength(steps.length)
    for (const { message, others } of plan.notes.filter(({ level }) => level === 'loss')) {
      expect(message).toContain('7 rows')
      expect(others).toBe(true)
    }
    expect(plan.rows).toBe(rows === 'are the copy' ? 0 : 120)
  })

  test('a lane rule says otherwise', () => {
    const lanes: LaneRule[] = [
      { like: '*', does: { rows: 'add' } },
      { like: 'nursery.b*', does: { rows: 'empty' } },
      { like: 'elsewhere.*', does: { rows: 'add' } },
    ]
    const plan = planned(fitting, { there: { rows: 'are the copy' }, lanes })
    expect(plan.steps).toEqual([{ step: 'empty table', table: { namespace: 'there', name: 'beds' } }])
    expect(plan.notes.map(({ message }) => message)).toContain(
      'Lane rule 3 is of no table: none that is chosen is like elsewhere.*.',
    )
  })

  test('only the own part of a table that origins share is emptied', () => {
    const shared = withField(field('origin', 'text', { nullable: false }))
    const { steps, notes } = planned(
      { ...shared, uniques: [{ columns: ['bed_id', 'origin'], primary: true }] },
      {
        origins: ['north', 'south'].map(tag => ({ tag, sameKind: false, source: [beds] })),
        there: { rows: 'empty' },
      },
    )
    expect(steps).toEqual([
      {
        step: 'empty table',
        table: { namespace: 'there', name: 'beds' },
        part: { column: 'origin', values: ['north', 'south'] },
      },
    ])
    expect(notes.map(({ message }) => message)).toEqual([
      'What is of north and south among the 7 rows of there.beds is deleted.',
    ])
  })

  const wide = (name: string, nativeType: string, type: LogicalType, part: Partial<Field> = {}) =>
    field(name, nativeType, { type, ...part })

  test.each<[string, Dataset, Given, string]>([
    ['a column that is not there', { ...fitting, fields: fitting.fields.slice(0, 2) }, {}, 'it has no made'],
    [
      'a narrower number',
      withField(wide('bed_id', 'smallint', int(16), { nullable: false })),
      {},
      'bed_id is smallint and would have to be integer',
    ],
    [
      'a time without its fraction',
      withField(wide('made', 'timestamp(0) with time zone', { kind: 'timestamp', zoned: true })),
      {},
      'made is timestamp(0) with time zone and would have to be timestamp with time zone',
    ],
    [
      'a text that is cut',
      withField(wide('label', 'character varying(10)', { kind: 'utf8' })),
      {},
      'label is character varying(10) and would have to be text',
    ],
    [
      'a text that is filled with spaces',
      withField(wide('label', 'character(40)', { kind: 'utf8' })),
      {},
      'label is character(40) and would have to be text',
    ],
    [
      'another key',
      { ...fitting, uniques: [{ columns: ['label'], primary: true }] },
      {},
      'it has no unique index over bed_id',
    ],
    [
      'a column that must have a value',
      withField(field('grower', 'text', { nullable: false })),
      {},
      'grower must have a value, and the lane writes none',
    ],
    [
      'a column that may not be null',
      withField(field('label', 'text', { nullable: false })),
      {},
      'label may not be null there',
    ],
    ['a view', { ...fitting, kind: 'view' }, {}, 'it is a view'],
    [
      'what replacing a row would lose',
      withField(field('grower', 'VARCHAR'), field('label', 'VARCHAR'), field('made', 'TIMESTAMPTZ')),
      { kind: 'duckdb' },
      'grower would lose what is in it, for rows are replaced whole there',
    ],
    [
      'another index that rows would be replaced by',
      {
        ...withField(
          field('bed_id', 'int(11)', { nullable: false }),
          wide('label', 'longtext', { kind: 'utf8' }),
          field('made', 'datetime(6)'),
        ),
        uniques: [
          { columns: ['bed_id'], primary: true },
          { columns: ['label(20)'], primary: false },
        ],
      },
      { kind: 'mariadb' },
      'it has another unique index, over label(20), by which rows would be replaced, too',
    ],
  ])('is refused with %s', (_, there, part, differs) => {
    expect(notes(there, { there: { rows: 'add' }, ...part })).toContain(
      `refused: there.beds is there already, and is not as nursery.beds needs it: ${differs}.`,
    )
  })

  test('takes what is wider, and is written in the types that it has', () => {
    const there = withField(
      wide('bed_id', 'bigint', int(64), { nullable: false }),
      wide('label', 'character varying(20)', { kind: 'utf8' }),
    )
    const { lanes, notes } = planned(there, { there: { rows: 'empty' } })
    expect(notes.map(({ level }) => level)).toEqual(['loss'])
    expect(lanes[0]!.writes.map(({ name, nativeType }) => `${name} ${nativeType}`)).toEqual([
      'bed_id bigint',
      'label character varying(20)',
      'made timestamp with time zone',
    ])
  })

  test('gets what is missing, null in the rows that stay', () => {
    const there = { ...fitting, fields: fitting.fields.slice(0, 1) }
    const plan = planned(there, { there: { rows: 'add', structure: 'add what is missing' } })
    expect(plan.steps).toMatchObject([
      { step: 'alter table', drops: [], renames: [], adds: [{ name: 'label' }, { name: 'made' }] },
    ])
    expect(plan.notes.map(({ level }) => level)).toEqual(['warning'])
  })

  test.each<[string, Given, string]>([
    [
      'rows that stay in a table that is made anew',
      { there: { rows: 'add', structure: 'make anew' } },
      'there.beds cannot be made anew and keep its 7 rows.',
    ],
    [
      'a copy that copies nothing',
      { there: { rows: 'are the copy' }, does: 'copy' },
      'Nothing of nursery.beds would be copied: what is in there.beds is to be the copy.',
    ],
  ])('refuses %s', (_, part, message) => {
    expect(notes(fitting, part)).toContain(`refused: ${message}`)
  })

  test('what a pipeline has made itself is replaced, unless something else was said', () => {
    const own = [{ namespace: 'there', name: 'beds' }]
    expect(planned(fitting, { own }).steps.map(({ step }) => step)).toEqual(['replace table'])
    expect(planned(fitting, { own, there: { rows: 'add' } }).steps).toEqual([])
  })

  test('a pipeline that runs goes on in the table that it was given', () => {
    const there = withField(wide('bed_id', 'bigint', int(64), { nullable: false }))
    const { lanes } = planned(there, { there: { rows: 'add' } })
    const own = [{ namespace: 'there', name: 'beds' }]
    const { change, steps, lanes: next } = planned(there, { there: { rows: 'add' }, own, running: lanes })
    expect(steps).toEqual([])
    expect(next).toEqual(lanes)
    expect(change!.lanes).toEqual([{ was: 0, fate: 'stays' }])
  })
})

test('a schema that cannot have its name is refused', () => {
  const profile = {
    ...profileOf('duckdb'),
    noSchema: { name: 'There', because: 'the file is called so, too' },
  }
  expect(notes(fitting, { profile, target: [] })).toContain(
    'refused: The target will not take the schema name there: the file is called so, too.',
  )
})

describe('the logical type of a DuckDB type', () => {
  const scalar = fc.oneof(
    fc.constantFrom<LogicalType>(
      { kind: 'bool' },
      { kind: 'utf8' },
      { kind: 'binary' },
      { kind: 'date' },
      { kind: 'uuid' },
      { kind: 'json' },
      { kind: 'interval' },
      { kind: 'time', zoned: false },
      { kind: 'timestamp', zoned: false },
    ),
    fc.record({
      kind: fc.constant('int' as const),
      bits: fc.constantFrom(8 as const, 16 as const, 32 as const, 64 as const),
      signed: fc.boolean(),
    }),
    fc.record({ kind: fc.constant('float' as const), bits: fc.constantFrom(32 as const, 64 as const) }),
    fc.tuple(fc.integer({ min: 1, max: 38 }), fc.nat(38)).map(([precision, scale]): LogicalType => ({
      kind: 'decimal',
      precision,
      scale: Math.min(scale, precision),
    })),
  )

  test('is the one that the type was made for', () => {
    fc.assert(
      fc.property(scalar, fc.nat(2), (type, depth) => {
        let nested: LogicalType = type
        for (let i = 0; i < depth; i++) nested = { kind: 'list', of: nested }
        expect(duckdbLogical(duckdbColumn({ type: nested, keyParts: 0 }).native)).toEqual(nested)
      }),
    )
  })
})
