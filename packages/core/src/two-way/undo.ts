/** What it takes to undo what was written: the inverse of each write, where nobody has written since. Nothing is done here. */
import type { TwoWayTrail } from '../api/two-way.ts'
import type { AppField, AppObject } from '../app/object.ts'
import type { TwoWayLane } from '../definition/two-way.ts'
import { normalIn, type Value } from '../merge/form.ts'
import type { Side } from '../merge/rule.ts'
import { formOf, type CompiledLane } from './lane.ts'
import type { Half } from './pair.ts'
import type { Undoing } from './undoing.ts'

/** Of a record that was written, with all that was written to it. */
export interface WrittenHalf {
  lane: string
  pair: string
  side: Side
  record: string | null
  /** The newest first. */
  trail: TwoWayTrail[]
}

/** So many fields are undone at once. */
export const MOST_UNDONE = 100_000

/** In the order in which the records were written last, the newest first. */
export function writtenHalves(trail: readonly TwoWayTrail[]): WrittenHalf[] {
  const found = new Map<string, WrittenHalf>()
  for (const one of trail) {
    const { lane, pair, side, record } = one
    const key = JSON.stringify([pair, side])
    const half = found.get(key)
    if (half) half.trail.push(one)
    else found.set(key, { lane, pair, side, record, trail: [one] })
  }
  return [...found.values()]
}

/** `half`: the record as it is now. */
export function undoingOf(
  { objects, lane }: Pick<CompiledLane, 'objects'> & { lane: Pick<TwoWayLane, 'links'> },
  { side, record, trail }: WrittenHalf,
  half: Half | null | undefined,
): Undoing {
  if (trail[0]!.op === 'delete') return remaking(objects[side], lane.links?.[side], trail, half)
  if (!half || half.id !== record) return { does: 'leave', why: 'gone' }
  const { fields: known, can } = objects[side]
  const fields = fieldsOf(known, trail)
  const isAsWritten = (field: string, became: string | null) => {
    const form = formOf(known.find(({ name }) => name === field)!)
    return normalIn(form, half.record[field] ?? null) === normalIn(form, became)
  }
  const ours = [...fields].filter(([field, { became }]) => isAsWritten(field, became))
  if (trail.some(({ op }) => op === 'create')) {
    if (ours.length < fields.size) return { does: 'leave', why: 'edited since' }
    return can.remove ? { does: 'delete' } : { does: 'leave', why: 'not deletable' }
  }
  if (fields.size === 0) return { does: 'leave', why: 'nothing to write back' }
  if (ours.length === 0) return { does: 'leave', why: 'edited since' }
  return {
    does: 'change',
    fields: ours.map(([field, { was, became }]) => ({ field, is: became, becomes: was })),
  }
}

/** By field: what it was before all of it, and what it became last. */
function fieldsOf(
  known: readonly AppField[],
  trail: readonly TwoWayTrail[],
): Map<string, { was: Value; became: Value }> {
  const fields = new Map<string, { was: Value; became: Value }>()
  for (const { field, was, became } of trail.toReversed()) {
    if (field === null || !known.some(({ name }) => name === field)) continue
    fields.set(field, { was: fields.has(field) ? fields.get(field)!.was : was, became })
  }
  return fields
}

/** What was deleted is made again with what it said before, but for what was made then, too. */
function remaking(
  { fields: known, can }: AppObject,
  link: string | undefined,
  trail: readonly TwoWayTrail[],
  half: Half | null | undefined,
): Undoing {
  const was = fieldsOf(known, trail)
  if (half) return { does: 'leave', why: 'nothing to write back' }
  if (was.size === 0 || trail.some(({ op }) => op === 'create')) return { does: 'leave', why: 'deleted then' }
  const fields = known.flatMap(({ name, readOnly }) => {
    const value = was.get(name)?.was ?? null
    // The key of a half that is gone says nothing.
    return readOnly || value === null || name === link ? [] : [{ field: name, becomes: value }]
  })
  const isWhole = known.every(({ name, required }) => !required || fields.some(({ field }) => field === name))
  return can.create && isWhole ? { does: 'create', fields } : { does: 'leave', why: 'not creatable' }
}
