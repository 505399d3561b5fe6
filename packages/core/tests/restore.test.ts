/** What it takes to write a record back as it was. */
import { expect, test } from '@jest/globals'
import type { AppObject } from '../src/app/object.ts'
import { keptFields, restoringOf } from '../src/two-way/restore.ts'
import { compileLane, halfOf } from '../src/two-way/lane.ts'
import { field } from './app-field.ts'

const object: AppObject = {
  name: 'jobs',
  title: 'jobs',
  key: 'id',
  label: 'job',
  fields: [
    field('id', { readOnly: true }),
    field('job'),
    field('cost', { type: { kind: 'decimal' } }),
    field('tags', { type: { kind: 'list', of: { kind: 'utf8' } } }),
    field('watchers', { readOnly: true }),
    field('link'),
  ],
  can: { list: true, read: true, create: true, change: true, remove: true },
  changed: null,
  created: null,
  version: null,
  findBy: [],
}
const names = ['job', 'cost', 'tags', 'watchers']
const LANE = {
  a: 'jobs',
  b: 'jobs',
  originate: 'both' as const,
  fields: names.map(name => ({
    a: name,
    b: name,
    direction: name === 'watchers' ? ('a to b' as const) : ('both' as const),
  })),
  conflict: 'the later' as const,
  tie: 'a' as const,
  first: 'a' as const,
  links: { a: 'link', b: 'link' },
}
const lane = compileLane(LANE, { a: object, b: object }, [LANE])

test('what differs by its own meaning is written back, but for what nobody may write', () => {
  expect(keptFields(lane, 'a')).toEqual(names)
  const was = { job: 'Mend', cost: '1.50', tags: '["b","a"]', watchers: '3' }
  const now = (values: Record<string, string | null>) =>
    halfOf(lane, 'a', 'j1', { ...was, link: 'x', ...values })
  const nothing = { does: 'leave', why: 'nothing to write back' }
  expect(restoringOf(lane, 'a', was, now({}))).toEqual(nothing)
  expect(restoringOf(lane, 'a', was, now({ cost: '1.5', tags: '["a","b"]', watchers: '9' }))).toEqual(nothing)
  expect(restoringOf(lane, 'a', was, now({ job: null, tags: '[]', link: null }))).toEqual({
    does: 'change',
    fields: [
      { field: 'job', is: null, becomes: 'Mend' },
      { field: 'tags', is: '[]', becomes: '["b","a"]' },
    ],
  })
  expect(restoringOf(lane, 'a', was, undefined)).toEqual({ does: 'leave', why: 'gone' })
  // A field that was joined since is left as it is.
  expect(restoringOf(lane, 'a', { job: 'Mend' }, now({ cost: '2' }))).toEqual(nothing)
})
