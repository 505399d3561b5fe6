import type { AppObject } from '../app/object.ts'
import type { SentColumn } from '../send/mapped.ts'
import type { SendNote } from '../send/plan.ts'
import type { Proposed } from '../send/propose.ts'

/** Both sides of a pipeline that sends, as its setup needs them. */
export interface SendLook {
  notes: SendNote[]
  /** null: they are not known yet. */
  columns: SentColumn[] | null
  objects: readonly AppObject[] | null
  proposed: Proposed
}
