import type { TargetSide } from '@tide/connectors/contract/target'
import type { DeletionGuard } from '@tide/core/apply/deletion-guard'
import type { Key, Row } from '@tide/core/records/value'
import type { Holding } from './holding.ts'
import type { WorkingLane } from './lanes.ts'

/** Reads a row of a lane as it stands at the source now, by its key; null when there is none. */
export type FetchRow = (lane: WorkingLane, identity: Key) => Promise<Row | null>

/** What a landing works with, beside where it reads. */
export interface LandingParts {
  target: TargetSide
  fetchRow: FetchRow
  /** Our clock; ISO 8601. */
  clock: () => string
  holding: Holding
  guard: DeletionGuard
  /** Rows of a lane at the target; null: not known. */
  rowsThere: (lane: WorkingLane) => number | null
}
