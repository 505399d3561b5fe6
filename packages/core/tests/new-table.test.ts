import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { AppObject } from '../src/app/object.ts'
import { columnName, newTableFor, newTableJoins } from '../src/app/new-table.ts'
import { field } from './app-field.ts'

test('every text makes a name that databases take, and no two columns have one', () => {
  fc.assert(
    fc.property(fc.array(fc.string(), { maxLength: 20 }), names => {
      for (const name of names) expect(columnName(name)).toMatch(/^[a-z_][a-z0-9_]{0,52}$/)
      const object = { ...EMPTY, fields: [...new Set(names)].map(name => field(name)) }
      const { columns, key, link } = newTableFor(object, 'Clubgate', { namespace: 's', name: 't' })
      const all = [key, link, ...columns.map(({ name }) => name)]
      expect(new Set(all).size).toBe(all.length)
      expect(columns.map(one => one.field)).toEqual(object.fields.map(({ name }) => name))
    }),
  )
  expect(['E-mail', 'Größe', '1st', ' Joined  on ', '!'].map(columnName)).toEqual([
    'e_mail',
    'gro_e',
    'c_1st',
    'joined_on',
    'c_',
  ])
})

const EMPTY: AppObject = {
  name: 'contacts',
  title: 'Contacts',
  key: 'the key',
  label: null,
  fields: [],
  can: { list: true, read: true, create: true, change: true, remove: true },
  changed: null,
  created: null,
  version: null,
  findBy: [],
}

test('what an app keeps of a record for itself has no column; what cannot be written there only comes', () => {
  const object: AppObject = {
    ...EMPTY,
    key: 'id',
    version: 'version',
    changed: 'at',
    fields: [
      field('id', { readOnly: true }),
      field('name'),
      field('club', { refers: 'clubs' }),
      field('total', { readOnly: true }),
      field('numbers', { type: { kind: 'list', of: { kind: 'decimal' } } }),
      field('version', { readOnly: true }),
      field('at', { readOnly: true }),
    ],
  }
  const { columns, link } = newTableFor(object, 'Clubgate', { namespace: 's', name: 't' })
  expect([link, ...columns.map(({ name }) => name)]).toEqual(['clubgate_key', 'name', 'club', 'total'])
  const joins = columns.map(({ name, field: of }) => ({ column: name, field: of }))
  expect(newTableJoins({ joins }, object, 'a').map(({ direction }) => direction)).toEqual([
    'both',
    'b to a',
    'b to a',
  ])
  expect(newTableJoins({ joins }, object, 'b')[1]).toEqual({ a: 'club', b: 'club', direction: 'a to b' })
})
