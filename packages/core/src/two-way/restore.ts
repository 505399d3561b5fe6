/** Records of both sides as they were at a moment, and what it takes to write that back. Nothing is done here. */
import { normalIn, type Value } from '../merge/form.ts'
import type { Side } from '../merge/rule.ts'
import { formOf, type CompiledLane } from './lane.ts'
import type { Half } from './pair.ts'
import type { Undoing } from './undoing.ts'

/** So many of a pipeline are kept; the oldest go. */
export const POINTS_KEPT = 10

export type PointWhy = 'before the first pass' | 'before the setup was changed' | 'asked for'

/** A moment to which records can be written back. */
export interface RestorePoint {
  id: string
  /** ISO 8601. */
  at: string
  why: PointWhy
  /** Records that are kept, by lane. */
  records: Record<string, Record<Side, number>>
  /** As they are kept, in bytes. */
  bytes: number
  /** By lane: of what it was then. */
  digests: Record<string, string>
}

/** A record of a side as it was: its key, and its values by field. */
export type KeptRecord = [id: string, values: Record<string, Value>]

export interface KeptPart {
  lane: string
  side: Side
  records: KeptRecord[]
}

/** Fields of a side that are kept: those that are joined. What links the halves would be put back at once. */
export function keptFields({ merge }: CompiledLane, side: Side): string[] {
  return [...new Set(merge.joins.map(join => join[side]))]
}

/** `was`: by field; `half`: the record as it is now. Fields that nobody may write are left. */
export function restoringOf(
  { objects }: Pick<CompiledLane, 'objects'>,
  side: Side,
  was: Readonly<Record<string, Value>>,
  half: Half | null | undefined,
): Undoing {
  if (!half) return { does: 'leave', why: 'gone' }
  const fields = objects[side].fields.flatMap(field => {
    const { name, readOnly } = field
    if (readOnly || !Object.hasOwn(was, name)) return []
    const [is, becomes] = [half.record[name] ?? null, was[name]!]
    const form = formOf(field)
    return normalIn(form, is) === normalIn(form, becomes) ? [] : [{ field: name, is, becomes }]
  })
  return fields.length === 0 ? { does: 'leave', why: 'nothing to write back' } : { does: 'change', fields }
}
