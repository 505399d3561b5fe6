import type { Side } from '../merge/rule.ts'
import type { PlanNote } from '../plan/note.ts'

/** Something that stands in the way of a two-way pipeline, or is to be known. */
export interface TwoWayNote extends Pick<PlanNote, 'level' | 'message' | 'remedy'> {
  /** Which section of the setup answers it. */
  section: 'name' | 'places' | 'who' | 'fields' | 'there' | 'gone'
  /** The place of the lane that it is about. */
  lane?: number
  /** The field pair that it is about. */
  join?: string
  /** On which side values of the field pair are less. */
  loses?: Side
}
