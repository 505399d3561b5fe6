/** The inverse of what was written, and only where nobody has written since. */
import { expect, test } from '@jest/globals'
import type { TwoWayTrail } from '../src/api/two-way.ts'
import type { AppObject } from '../src/app/object.ts'
import { undoingOf, writtenHalves } from '../src/two-way/undo.ts'
import { field } from './app-field.ts'

const object = (remove: boolean): AppObject => ({
  name: 'jobs',
  title: 'Jobs',
  key: 'id',
  label: null,
  fields: [field('job'), field('notes'), field('ticket')],
  can: { list: true, read: true, create: true, change: true, remove },
  changed: null,
  created: null,
  version: null,
  findBy: [],
})
const lane = (remove = true) => ({
  objects: { a: object(remove), b: object(remove) },
  lane: { links: { b: 'ticket' } },
})
let n = 0
const wrote = (more: Partial<TwoWayTrail>): TwoWayTrail => ({
  id: ++n,
  at: '2026-11-30T08:00:00Z',
  run: 'r',
  lane: 'l',
  pair: 'p',
  side: 'b',
  op: 'change',
  record: 'j1',
  field: 'job',
  was: null,
  became: null,
  why: 'a changed',
  ...more,
})
const half = (record: Record<string, string | null>, id = 'j1') => ({
  id,
  record,
  version: null,
  changedAt: null,
})
/** In the order in which they were written. */
const undoing = (trail: TwoWayTrail[], now: ReturnType<typeof half> | null, remove = true) =>
  undoingOf(lane(remove), writtenHalves(trail.toReversed())[0]!, now)

test('a field goes back to what it was before all of it, where it says what was written last', () => {
  const trail = [wrote({ was: 'one', became: 'two' }), wrote({ was: 'two', became: 'three' })]
  expect(undoing(trail, half({ job: 'three' }))).toEqual({
    does: 'change',
    fields: [{ field: 'job', is: 'three', becomes: 'one' }],
  })
  expect(undoing(trail, half({ job: 'somebody’s' }))).toEqual({ does: 'leave', why: 'edited since' })
  expect(undoing(trail, null)).toEqual({ does: 'leave', why: 'gone' })
  expect(undoing(trail, half({ job: 'three' }, 'another'))).toEqual({ does: 'leave', why: 'gone' })
})

test('a field that had nothing gets nothing again, also when it was written twice', () => {
  const trail = [wrote({ was: null, became: 'two' }), wrote({ was: 'two', became: 'three' })]
  expect(undoing(trail, half({ job: 'three' }))).toMatchObject({ fields: [{ becomes: null }] })
})

test('of a record some fields are written back, those that were edited since are left', () => {
  const trail = [wrote({ was: 'a', became: 'b' }), wrote({ field: 'notes', was: 'c', became: 'd' })]
  expect(undoing(trail, half({ job: 'b', notes: 'edited' }))).toMatchObject({ fields: [{ field: 'job' }] })
})

test('what was made is deleted, unless it was edited or its app lets nobody', () => {
  const trail = [wrote({ op: 'create', became: 'Pot' }), wrote({ was: 'Pot', became: 'Pots' })]
  expect(undoing(trail, half({ job: 'Pots' }))).toEqual({ does: 'delete' })
  expect(undoing(trail, half({ job: 'Pots' }), false)).toEqual({ does: 'leave', why: 'not deletable' })
  expect(undoing(trail, half({ job: 'Potted' }))).toEqual({ does: 'leave', why: 'edited since' })
})

const removed = (field: string, was: string) => wrote({ op: 'delete', field, was, why: 'gone' })

test('what was deleted is made again with what it said before all of it, unless it is there, or was made then', () => {
  const gone = [removed('job', 'Pots'), removed('notes', 'by the gate'), removed('ticket', 'RKB-7')]
  expect(undoing([wrote({ was: 'Pot', became: 'Pots' }), ...gone], null)).toEqual({
    does: 'create',
    fields: [
      { field: 'job', becomes: 'Pot' },
      { field: 'notes', becomes: 'by the gate' },
    ],
  })
  expect(undoing(gone, half({ job: 'Pots' }, 'j2'))).toMatchObject({ does: 'leave' })
  expect(undoing([wrote({ op: 'create', became: 'Pots' }), ...gone], null)).toMatchObject({
    why: 'deleted then',
  })
  // Of what was deleted before that was put down nothing is known.
  expect(undoing([wrote({ op: 'delete', field: null })], null)).toMatchObject({ why: 'deleted then' })
  const needs = lane()
  needs.objects.b.fields.push(field('area', { required: true }))
  expect(undoingOf(needs, writtenHalves(gone.toReversed())[0]!, null)).toMatchObject({ why: 'not creatable' })
})
