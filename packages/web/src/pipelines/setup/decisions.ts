import { hinders, type PlanNote } from '@tide/core/plan/note'
import { plural } from '../../format.ts'

/** How much is left to decide before a start, in words. */
export function decisions(notes: readonly Pick<PlanNote, 'level'>[] | undefined): string {
  const left = notes?.filter(hinders).length ?? 0
  return left === 0 ? 'nothing left to decide' : `${plural(left, 'thing')} to settle`
}
