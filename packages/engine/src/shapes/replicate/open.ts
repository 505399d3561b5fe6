import type { Session } from '@tide/connectors/contract/session'
import type { Gathering, TargetSide } from '@tide/connectors/contract/target'
import type { DeletionGuard } from '@tide/core/apply/deletion-guard'
import type { JournaledSource } from '../../journal/source.ts'
import type { Meter } from '../../meter.ts'
import type { SharedCheckpoint } from './checkpoint.ts'
import type { FetchRow } from './land.ts'
import type { Holding } from './holding.ts'
import type { WorkingLane } from './lanes.ts'

/** How often a quiet source is asked. */
export const POLL_MS = 200

/** A pipeline that is worked on: both sides open, and its checkpoint known. */
export interface OpenPipeline {
  id: string
  lanes: readonly WorkingLane[]
  source: JournaledSource
  target: TargetSide
  gathering: Gathering
  checkpoint: SharedCheckpoint
  fetchRow: FetchRow
  holding: Holding
  guard: DeletionGuard
  /** Rows of a lane at the target; null: not known. */
  rowsThere: (lane: WorkingLane) => number | null
  scan: NonNullable<Session['scan']>
  /** Our clock; ISO 8601. */
  clock: () => string
  meter: Meter
}

/** Commits a checkpoint without any rows. */
export async function writeCheckpoint(
  { target, checkpoint }: OpenPipeline,
  change: Parameters<typeof checkpoint.commit>[0] = now => now,
): Promise<void> {
  const writing = await target.begin()
  try {
    await checkpoint.commit(change, next => writing.commit(next))
  } catch (error) {
    await writing.rollback()
    throw error
  }
}
