import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { AppField, AppObject } from '../src/app/object.ts'
import { changedOf, comparedLine, written, type Encoded } from '../src/send/compared-line.ts'
import { readQueryFile } from '../src/definition/query-file.ts'
import { csvRows } from '../src/records/csv-rows.ts'
import { alike } from '../src/send/alike.ts'
import { answerType } from '../src/send/answer-type.ts'
import { fitted } from '../src/send/fit.ts'
import { folded, mapper, type SentColumn } from '../src/send/mapped.ts'
import { proposeFields } from '../src/send/propose.ts'
import { templateParts } from '../src/send/template.ts'
import { field as named } from './app-field.ts'

const field = (more: Partial<AppField>): AppField => named('f', { title: 'F', ...more })

describe('values and fields', () => {
  test.each<[string, Partial<AppField>, string | undefined]>([
    ['12', { type: { kind: 'int', bits: 64, signed: true } }, '12'],
    ['12.00', { type: { kind: 'int', bits: 64, signed: true } }, '12'],
    ['12.5', { type: { kind: 'int', bits: 64, signed: true } }, undefined],
    ['-0.10', { type: { kind: 'decimal' } }, '-0.10'],
    ['NaN', { type: { kind: 'decimal' } }, undefined],
    ['t', { type: { kind: 'bool' } }, 'true'],
    ['false', { type: { kind: 'bool' } }, 'false'],
    ['yes', { type: { kind: 'bool' } }, undefined],
    ['2026-02-03', { type: { kind: 'date' } }, '2026-02-03'],
    ['2026-02-03 00:00:00', { type: { kind: 'date' } }, '2026-02-03'],
    ['2026-02-03 07:00:00', { type: { kind: 'date' } }, undefined],
    ['2026-02-03', { type: { kind: 'timestamp', zoned: true } }, '2026-02-03T00:00:00Z'],
    ['2026-02-03 07:08:09.5+02', { type: { kind: 'timestamp', zoned: true } }, '2026-02-03T07:08:09.5+02:00'],
    ['infinity', { type: { kind: 'timestamp', zoned: true } }, undefined],
    ['[1]', { type: { kind: 'list', of: { kind: 'json' } } }, '[1]'],
    ['{}', { type: { kind: 'list', of: { kind: 'json' } } }, undefined],
    ['seed', { choices: ['seed', 'bloom'] }, 'seed'],
    ['Seed', { choices: ['seed', 'bloom'] }, undefined],
    ['🌱🌱🌱', { maxLength: 3 }, '🌱🌱🌱'],
    ['abcd', { maxLength: 3 }, undefined],
    ['a@b.example', { email: true }, 'a@b.example'],
    ['a@b', { email: true }, undefined],
    ['a b@c.example', { email: true }, undefined],
  ])('%s', (value, more, expected) => {
    const fit = fitted(value, field(more))
    expect('text' in fit ? fit.text : undefined).toBe(expected)
    if (!('text' in fit)) expect(fit.reason).not.toBe('')
  })

  test('what an app makes of a value’s form is nobody’s edit', () => {
    const decimal = field({ type: { kind: 'decimal' } })
    const moment = field({ type: { kind: 'timestamp', zoned: true } })
    expect(alike('5.50', '5.5', decimal)).toBe(true)
    expect(alike('5.50', '5.6', decimal)).toBe(false)
    expect(alike(' A@B.example', 'a@b.example', field({}))).toBe(true)
    expect(alike(null, '', field({}))).toBe(true)
    expect(alike('x', null, field({}))).toBe(false)
    expect(alike('2026-01-01T02:00:00+02:00', '2026-01-01T00:00:00Z', moment)).toBe(true)
  })

  test('types of an answer’s columns, whoever names them', () => {
    expect(answerType('BIGINT')).toEqual({ kind: 'int', bits: 64, signed: true })
    expect(answerType('numeric(10, 2)')).toEqual({ kind: 'decimal', precision: 10, scale: 2 })
    expect(answerType('timestamp without time zone')).toEqual({ kind: 'timestamp', zoned: false })
    expect(answerType('VARCHAR(20)')).toEqual({ kind: 'utf8' })
    expect(answerType('geometry')).toEqual({ kind: 'utf8' })
  })
})

test('templates: a column in braces, a brace written twice', () => {
  expect(templateParts('{a} of {{b}} {c d}')).toEqual([
    { column: 'a' },
    { text: ' of {b} ' },
    { column: 'c d' },
  ])
  expect(templateParts('a } b')).toBeUndefined()
  expect(templateParts('{a')).toBeUndefined()
  fc.assert(
    fc.property(fc.string(), text => {
      const doubled = text.replaceAll('{', '{{').replaceAll('}', '}}')
      expect(templateParts(doubled) ?? []).toEqual(text === '' ? [] : [{ text }])
    }),
  )
})

const COLUMNS: SentColumn[] = ['id', 'first', 'last', 'n'].map(name => ({
  name,
  type: { kind: 'utf8' },
  nullable: true,
}))
const OBJECT: AppObject = {
  name: 'people',
  title: 'People',
  key: 'id',
  label: 'name',
  fields: [
    field({ name: 'name', required: true, maxLength: 20 }),
    field({ name: 'n', title: 'Count', type: { kind: 'int', bits: 64, signed: true } }),
    field({ name: 'club', refers: 'clubs' }),
    field({ name: 'from' }),
  ],
  can: { list: true, read: true, create: true, change: true, remove: true },
  findBy: [],
  changed: null,
  created: null,
  version: null,
}

test('a row becomes a record, or says which field it does not fit', () => {
  const map = mapper(
    {
      key: ['id'],
      meets: [{ column: 'first', field: 'name', alike: 'but for case and spaces' }],
      fields: [
        { field: 'name', from: { template: '{first} {last}' } },
        { field: 'n', from: { column: 'n' }, empty: 'clear' },
        { field: 'club', from: { column: 'last' }, by: 'name' },
        { field: 'from', from: { constant: 'us' } },
      ],
    },
    COLUMNS,
    OBJECT,
    new Map([['club', new Map([['larkfield', 'c1']])]]),
  )
  const now = '2026-11-30T00:00:00Z'
  expect(map(['1', ' Ada', 'Larkfield ', null], now)).toEqual({
    key: ['1'],
    values: { name: ' Ada Larkfield ', n: null, club: 'c1', from: 'us' },
    matches: ['ada'],
    problem: null,
  })
  expect(map(['2', null, null, '7'], now)).toMatchObject({ values: { n: '7', from: 'us' }, matches: [null] })
  expect(map(['3', 'Bo', 'Nowhere', 'x'], now).problem).toMatchObject({ field: 'n' })
  expect(map(['3', 'Bo', 'Nowhere', '1'], now).problem).toMatchObject({ field: 'club' })
  expect(map([null, 'Bo', 'Larkfield', '1'], now).key).toBeNull()
})

test('what is compared says every field, and nothing that was not there is written', () => {
  const value = fc.option(fc.string())
  fc.assert(
    fc.property(value, value, (a, b) => {
      const pairs = [
        { field: 'a', from: { column: 'a' } },
        { field: 'b', from: { column: 'b' }, empty: 'clear' as const },
      ]
      const values = { ...(a === null ? {} : { a }), b }
      const [row] = csvRows(
        new TextEncoder().encode(
          comparedLine(7, { key: ['k'], values, matches: [null, 'm'], problem: null }, pairs),
        ),
      )
      expect([row![0], row![1], row![7], row![8]]).toEqual(['7', '["k"]', null, 'm'])
      const always = written(JSON.parse(row![2]!) as Encoded)
      expect(always).toEqual(values)
      expect(changedOf(always, always)).toEqual({})
      expect(changedOf({}, always)).toEqual(always)
    }),
  )
})

test('columns and fields of one name are proposed, however it is written', () => {
  const columns = ['E-MAIL', 'Name', 'count'].map(name => ({ ...COLUMNS[0]!, name }))
  const object = { ...OBJECT, fields: [...OBJECT.fields, field({ name: 'email', unique: true })] }
  expect(proposeFields(columns, object, ['name'])).toEqual({
    fields: [
      { field: 'n', from: { column: 'count' } },
      { field: 'email', from: { column: 'E-MAIL' } },
    ],
    meets: [{ column: 'E-MAIL', field: 'email', alike: 'but for case and spaces' }],
  })
})

test('a saved query as a file says whom it asks, by which key, and what', () => {
  expect(
    readQueryFile(
      'orders',
      '-- key: a, b\r\n--connection:  Office \r\n-- parameter: since date = 2026-01-01\n\r\n-- of the year\nSELECT 1;\n',
    ),
  ).toEqual({
    name: 'orders',
    connection: 'Office',
    key: ['a', 'b'],
    parameters: [{ name: 'since', type: 'date', preset: '2026-01-01' }],
    sql: '-- of the year\nSELECT 1',
  })
  expect(() => readQueryFile('orders', 'SELECT 1')).toThrow('orders.sql does not say which connection')
  expect(() => readQueryFile('orders', '-- connection: Office\n')).toThrow('holds no SQL')
  expect(() => readQueryFile('orders', '-- connection: Office\n-- parameter: since day\nSELECT 1')).toThrow(
    'a parameter that cannot be read: since day',
  )
})

test('folding is the same done twice', () => {
  fc.assert(fc.property(fc.string(), text => expect(folded(folded(text))).toBe(folded(text))))
})
