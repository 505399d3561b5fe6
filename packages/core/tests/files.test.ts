import { expect, test } from '@jest/globals'
import type { FilesChoice } from '@tide/core/definition/files'
import { filesSchema, foldersOf, gathersSeconds, isChangeFiles } from '@tide/core/definition/files'
import type { PlanInput, TargetProfile } from '@tide/core/plan/input'
import { makePlan, type Plan } from '@tide/core/plan/plan'
import type { Dataset } from '@tide/core/records/dataset'
import { lakeColumn } from '@tide/core/shape/lake'
import { Value } from 'typebox/value'

const beds: Dataset = {
  namespace: 'nursery',
  name: 'beds',
  kind: 'table',
  fields: [
    {
      name: 'bed_id',
      type: { kind: 'int', bits: 16, signed: false },
      nativeType: 'smallint',
      nullable: false,
    },
    { name: 'rest', type: { kind: 'interval' }, nativeType: 'interval', nullable: true },
    { name: 'change_number', type: { kind: 'utf8' }, nativeType: 'text', nullable: true },
  ],
  key: ['bed_id'],
  rows: 120,
  rowsExact: true,
  bytes: 8192,
}
const profile: TargetProfile = {
  naming: { fold: 'none', allowed: 'any', maxLength: 120 },
  typeOf: lakeColumn,
  nameKey: name => name,
  needsKey: 'none',
  keepsOthers: false,
  lake: true,
}

const planOf = (files: FilesChoice | undefined, more: Partial<PlanInput> = {}): Plan =>
  makePlan({
    origins: [{ tag: '', sameKind: false, source: [beds] }],
    tables: [{ namespace: 'nursery', name: 'beds' }],
    targetSchema: 'there',
    names: [{ names: 'columns', does: { prefix: 'the_' } }],
    target: [],
    targetSchemas: [],
    profile,
    claims: [],
    own: [],
    ...(files ? { files } : {}),
    ...more,
  })
const refused = ({ notes }: Plan) =>
  notes.filter(({ level }) => level === 'refused').map(({ message }) => message)

test('change files say of each change what it was, the row, and which row it was before', () => {
  const plan = planOf(undefined)
  expect(refused(plan)).toEqual([])
  const [lane] = plan.lanes
  expect(lane!.files).toEqual({ as: 'changes', format: 'json lines', compress: 'gzip', folders: '' })
  const names = lane!.history!.columns.map(({ name, nativeType }) => `${name} ${nativeType}`)
  expect(names.filter(name => !name.startsWith('change_'))).toEqual([
    'the_bed_id INTEGER',
    'the_rest VARCHAR',
    'the_change_number VARCHAR',
    'before_the_bed_id INTEGER',
  ])
  const withBefore = planOf({ before: true }).lanes[0]!.history!.columns.map(({ name }) => name)
  expect(withBefore.slice(-3)).toEqual(['before_the_bed_id', 'before_the_rest', 'before_the_change_number'])
  // The table is made of what its files have.
  expect(plan.steps.find(({ step }) => step === 'create table')).toMatchObject({
    columns: lane!.history!.columns.map(({ name }) => ({ name })),
    files: lane!.files,
  })
})

test('a merged table has its own columns; what does not go with it is refused, and so is what files are not', () => {
  const plan = planOf({ as: 'merged' })
  expect(refused(plan)).toEqual([])
  expect(plan.lanes[0]!.history).toBeUndefined()
  expect(refused(planOf({ as: 'merged', before: true }))).toHaveLength(1)
  expect(refused(planOf({ as: 'merged' }, { history: true }))[0]).toContain('keeps no history')
  expect(refused(planOf({ format: 'csv', compress: 'zstd' }))[0]).toContain('cannot be compressed by zstd')
  expect(refused(planOf({}, { names: [] }))[0]).toContain('a column that becomes change_number')
  expect(refused(planOf({}, { deletes: { mark: 'gone at' } }))[0]).toContain('nothing else can become of it')
  expect(refused(planOf({}, { status: 'tide' }))[0]).toContain('Status tables')
  const database: TargetProfile = { ...profile }
  delete database.lake
  expect(refused(planOf({}, { profile: database }))[0]).toContain('no folder or bucket')
})

test('what something else has written is left alone; its own goes on', () => {
  const there: Dataset = { ...beds, namespace: 'there', rows: 7 }
  expect(refused(planOf({}, { target: [there] }))[0]).toContain('in files that something else has written')
  const own = planOf({}, { target: [there], own: [there] })
  expect(refused(own)).toEqual([])
  expect(own.notes.map(({ message }) => message).join()).toContain('goes on behind its 7 rows')
})

test('folders are made of the moment of a commit; what would lead elsewhere is no template', () => {
  expect(foldersOf('date={date}/h={hour}', '2026-03-09 17:05:00+00')).toBe('date=2026-03-09/h=17')
  expect(foldersOf('{year}/{month}/{day}', '2026-03-09T17:05:00Z')).toBe('2026/03/09')
  const fits = (folders: string) => Value.Check(filesSchema, { folders })
  expect(['', 'a={date}', '{year}/{month}', 'x-1/y_2'].map(fits)).toEqual([true, true, true, true])
  expect(['../up', '/top', 'a//b', 'a/', '{table}', 'a.b', '{date', 'ü'].map(fits)).not.toContain(true)
})

test('what waits for others is not late before that is over', () => {
  expect(gathersSeconds({ files: {} })).toBe(60)
  expect(gathersSeconds({ files: {}, speed: { waits: 5 } })).toBe(5)
  expect(gathersSeconds({})).toBe(0)
  expect([
    isChangeFiles({ files: {} }),
    isChangeFiles({ files: { as: 'merged' } }),
    isChangeFiles({}),
  ]).toEqual([true, false, false])
})
