import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { AppObject } from '../src/app/object.ts'
import { columnName, fieldsToMake, freeNames, madeJoins } from '../src/app/made.ts'
import { typeToMake, type DescribedDiscovery } from '../src/app/discovery.ts'
import { field } from './app-field.ts'

test('every text makes a name that databases take, and no two columns have one', () => {
  fc.assert(
    fc.property(fc.array(fc.string(), { maxLength: 20 }), names => {
      for (const name of names) expect(columnName(name)).toMatch(/^[a-z_][a-z0-9_]{0,52}$/)
      const free = freeNames(['id'])
      const all = ['id', ...names.map(name => free(columnName(name)))]
      expect(new Set(all).size).toBe(all.length)
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
  const made = fieldsToMake(object).map(({ name }) => name)
  expect(made).toEqual(['name', 'club', 'total'])
  const joins = made.map(name => ({ column: `its ${name}`, field: name }))
  expect(madeJoins({ joins }, object, 'a').map(({ direction }) => direction)).toEqual([
    'both',
    'b to a',
    'b to a',
  ])
  expect(madeJoins({ joins }, object, 'b')[1]).toEqual({ a: 'club', b: 'its club', direction: 'a to b' })
})

test('a field is made of the type of the app that holds its values best; one that none holds is not', () => {
  const types: DescribedDiscovery['types'] = {
    formula: { is: 'number', notMade: true },
    text: { is: 'string' },
    choice: { is: 'string', choices: true },
    amount: { is: 'number' },
    day: { is: 'string', format: 'date' },
    tags: { is: 'set' },
  }
  const made = (kind: object, part: { choices?: string[]; email?: boolean } = {}) =>
    typeToMake({ type: kind as never, choices: null, email: false, ...part }, types)
  expect([
    made({ kind: 'utf8' }),
    made({ kind: 'utf8' }, { choices: ['seed', 'bloom'] }),
    made({ kind: 'utf8' }, { email: true }),
    made({ kind: 'int', bits: 64, signed: true }),
    made({ kind: 'decimal' }),
    made({ kind: 'date' }),
    made({ kind: 'timestamp', zoned: true }),
    made({ kind: 'list', of: { kind: 'utf8' } }, { choices: ['a'] }),
    made({ kind: 'uuid' }),
    made({ kind: 'bool' }),
    made({ kind: 'json' }),
  ]).toEqual([
    'text',
    'choice',
    'text',
    'amount',
    'amount',
    'day',
    'text',
    'tags',
    'text',
    undefined,
    undefined,
  ])
})
