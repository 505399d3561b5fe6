import type { DeletionGuard } from '@tide/core/apply/deletion-guard'
import { Rate } from '@tide/core/pace/rate'
import type { Shaping } from '@tide/core/shape/written'
import type { SharedCheckpoint } from './checkpoint.ts'
import type { WorkingLane } from './lanes.ts'

/** The rate of the copy is that of its last seconds. */
const COPY_RATE_OVER_MS = 5_000

/** What is known of a replication beside its checkpoint; it outlives the sessions of a run. */
export interface Known {
  lanes: readonly WorkingLane[]
  shaping: Shaping
  checkpoint: SharedCheckpoint | undefined
  copyRates: (Rate | undefined)[]
  rowsThere: (number | null)[]
  /** The state that status tables at the target were told last. */
  stateWritten?: string
  /** What was deleted lately, and whether more may be. */
  guard: DeletionGuard
}

export function copyRate(now: number): Rate {
  return new Rate(COPY_RATE_OVER_MS, now)
}
