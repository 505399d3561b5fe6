import type { Position } from '@tide/core/position/position'
import type { SourceTransaction } from '@tide/core/records/change'

/** What follows a position, in commit order. */
export interface ChangeBatch {
  transactions: SourceTransaction[]
  /** Where the batch ends; inside a transaction when `complete` is false, and then the rest of it comes next. */
  to: Position
  complete: boolean
  head: SourceHead
}

/** How far the source is ahead of the end of a batch. */
export interface SourceHead {
  /** The source's clock when this was known, ISO 8601; `null` when the source has not been heard for a while. */
  now: string | null
  /** What is pending is all there is up to this time of the source's clock; `null` when that is not known. */
  completeUpTo: string | null
  pendingChanges: number
  oldestPending: string | null
  /** Up to when the journal holds what was committed; `null` when that is all there is. */
  journalEnd: string | null
}
