/** How a target is prepared, filled and kept up. */
import type { NetEffect, Put } from '@tide/core/apply/net-effect'
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { TargetProfile } from '@tide/core/plan/input'
import type { LandedFiles } from '@tide/core/definition/files'
import type { HistoryColumn } from '@tide/core/plan/lane'
import type { Column } from '@tide/core/records/column'
import type { DatasetName } from '@tide/core/records/dataset'
import type { CopyRange } from './source.ts'

/** A lane as the target must write it. */
export interface TargetLane {
  table: DatasetName
  columns: readonly Column[]
  /** Column names, in key order. */
  key: readonly string[]
  /** Its own rows are those with this value in this column; absent: all of the table's. */
  part?: { column: string; value: string }
  /** At a lake: the files that its rows land in. */
  files?: LandedFiles
  /** Where those are change files: what they say of each change. */
  changes?: readonly HistoryColumn[]
}

export interface LaneEffect {
  lane: TargetLane
  effect: NetEffect
}

/** A row that could not be put whole: values were not sent, and the target has no such row to take them from. */
export interface Unfilled {
  lane: TargetLane
  put: Put
}

/** What has been loaded and is about to be committed. */
export interface Loaded {
  rows: number
  bytes: number
}

/**
 * Called when a range is in and not yet committed; `write` writes the checkpoint and commits. Since ranges load side
 * by side, only the caller knows what the checkpoint must say at that moment.
 */
export type CommitLoad = (loaded: Loaded, write: (checkpoint: Checkpoint) => Promise<void>) => Promise<void>

/** Changes land together with their checkpoint, or not at all. */
export interface ApplyTransaction {
  apply(effects: readonly LaneEffect[]): Promise<Unfilled[]>
  commit(checkpoint: Checkpoint): Promise<void>
  rollback(): Promise<void>
}

/** How changes should be gathered before they land. */
export interface Gathering {
  /** At least so many land together, where there are so many. */
  changes: number
  /** They wait for others no longer than this. */
  waitMs: number
}

export interface TargetSide {
  profile: TargetProfile
  gathering: Gathering
  /** The statements of the steps, one each: the plan shows these very statements, and `prepare` runs them. */
  ddl(steps: readonly PrepareStep[]): string[]
  /** Prepares the tables and writes the first checkpoint in one transaction. */
  prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void>
  /** Prepares tables that several pipelines will share, each with a checkpoint of its own. Repeating it after a failure is safe. */
  make(pipeline: string, steps: readonly PrepareStep[]): Promise<void>
  /**
   * Makes and alters tables for another plan, empties the parts of the lanes that are copied again, and writes the checkpoint
   * that is by that plan. Repeating it after a failure is safe.
   */
  change(steps: readonly PrepareStep[], again: readonly TargetLane[], checkpoint: Checkpoint): Promise<void>
  /** Takes a range in. `again`: rows of it may be there already. Several calls may run side by side. */
  load(lane: TargetLane, range: CopyRange, again: boolean, commit: CommitLoad): Promise<void>
  begin(): Promise<ApplyTransaction>
  readCheckpoint(pipeline: string): Promise<Checkpoint | undefined>
  /**
   * Takes the pipeline over: ends what anybody else has under way for it, raises its checkpoint to `epoch`, so that
   * nobody writes under an older one any more, and returns it as it stands then. `undefined` when there is none, or
   * only one of an epoch before `freshFrom`, which is left alone. One of a later epoch is returned as it is.
   */
  takeCheckpoint(pipeline: string, epoch: number, freshFrom: number): Promise<Checkpoint | undefined>
  /** Empties the lanes’ parts of their tables and writes the checkpoint in one transaction. */
  empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void>
  /** Takes the pipeline's checkpoint away; its tables stay. */
  forget(pipeline: string): Promise<void>
  /** Fails when it takes long. */
  count(lane: TargetLane): Promise<number>
}
