import type { Session } from '@tide/connectors/contract/session'
import type { Gathering } from '@tide/connectors/contract/target'
import type { JournaledSource } from '../../journal/source.ts'
import type { Meter } from '../../meter.ts'
import type { ReplicationRun } from '../shape.ts'
import type { SharedCheckpoint } from './checkpoint.ts'
import type { LandingParts } from './landing-parts.ts'
import type { WorkingLane } from './lanes.ts'

/** How often a quiet source is asked. */
export const POLL_MS = 200

/** A pipeline that is worked on: both sides open, and its checkpoint known. */
export interface OpenPipeline extends LandingParts {
  id: string
  lanes: readonly WorkingLane[]
  source: JournaledSource
  gathering: Gathering
  checkpoint: SharedCheckpoint
  scan: NonNullable<Session['scan']>
  meter: Meter
  /** A checkpoint in which only time has gone on is written so often. */
  quietMs: number
  detail: ReplicationRun['detail']
  runs: ReplicationRun['runs']
  /** What has come is not to wait for more. */
  lands: { now: boolean }
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
