import { describe, expect, test } from '@jest/globals'
import type { ColumnRule } from '@tide/core/shape/column-rule'
import { makePlan } from '@tide/core/plan/plan'
import type { Dataset } from '@tide/core/records/dataset'
import { duckdbColumn } from '@tide/core/shape/duckdb'

const text = (name: string, nullable = false): Dataset['fields'][number] => ({
  name,
  type: { kind: 'utf8' },
  nativeType: 'text',
  nullable,
})
const beds: Dataset = {
  namespace: 's',
  name: 'beds',
  kind: 'table',
  fields: [text('id'), text('code'), text('site'), text('note', true)],
  key: ['id'],
  uniques: [
    { columns: ['id'], primary: true },
    { columns: ['code'], primary: false },
  ],
  tellsBefore: true,
  rows: 1,
  rowsExact: true,
  bytes: 1,
}

const plan = (key: string[], part: Partial<Dataset> = {}, columns: ColumnRule[] = []) =>
  makePlan({
    tables: [beds],
    targetSchema: 'w',
    names: [],
    origins: [{ tag: '', sameKind: false, source: [{ ...beds, ...part }] }],
    lanes: [{ like: 's.beds', does: { key } }],
    columns,
    target: [],
    targetSchemas: ['w'],
    profile: {
      naming: { fold: 'upper', allowed: 'any', maxLength: 60 },
      typeOf: duckdbColumn,
      nameKey: name => name.toLowerCase(),
      needsKey: 'none',
      keepsOthers: false,
    },
    claims: [],
    own: [],
  })

describe('a key at the target that is not the source’s own', () => {
  test('is made of the columns that were named; the source still tells rows by its own', () => {
    const { lanes, notes, steps } = plan(['site', 'code'])
    expect(notes).toEqual([])
    expect(lanes).toMatchObject([{ identity: ['id'], key: ['SITE', 'CODE'] }])
    expect(steps).toContainEqual(expect.objectContaining({ step: 'create table', key: ['SITE', 'CODE'] }))
  })

  test('the source’s own need not come along, and is read all the same', () => {
    const { lanes, notes } = plan(['code'], {}, [{ like: 's.beds.id', does: { leave: 'out' } }])
    expect(notes).toEqual([])
    expect(lanes[0]!.reads.map(({ name }) => name)).toContain('id')
    expect(lanes[0]!.writes.map(({ name }) => name)).toEqual(['CODE', 'SITE', 'NOTE'])
  })

  test.each<[string, string[], Partial<Dataset>, ColumnRule[], string]>([
    [
      'a column that is not there',
      ['code', 'colour'],
      {},
      [],
      'The target key of s.beds: there is no colour that could be followed.',
    ],
    ['one that may be null', ['code', 'note'], {}, [], 'The target key of s.beds: note may be null.'],
    [
      'columns that do not keep rows apart',
      ['site'],
      {},
      [],
      'The target key of s.beds: nothing at the source keeps two rows from having the same site.',
    ],
    [
      'what the log does not tell of before',
      ['code'],
      { tellsBefore: undefined } as never,
      [],
      'The target key of s.beds: when code is changed, its log does not tell what it was before.',
    ],
    [
      'a column of it that is left out',
      ['code'],
      {},
      [{ like: 's.beds.code', does: { leave: 'out' } }],
      's.beds.code is part of the key, and cannot be left out.',
    ],
  ])('refuses %s', (_, key, part, columns, message) => {
    expect(plan(key, part as Partial<Dataset>, columns).notes).toMatchObject([{ level: 'refused', message }])
  })

  test('with the source’s own in it, the log need not tell what was before', () => {
    const { notes } = plan(['id'], { tellsBefore: undefined } as never)
    expect(notes).toEqual([])
  })
})
