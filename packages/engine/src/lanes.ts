import type { Checkpoint, LaneProgress, SourceLane, TargetLane } from '@tide/connectors/contract'
import type { Lane } from '@tide/core/plan/plan'
import type { Position } from '@tide/core/position/position'

/** A lane as both sides and the fold need it. */
export interface WorkingLane {
  plan: Lane
  source: SourceLane
  target: TargetLane
  keyIndexes: number[]
}

export function workingLane(plan: Lane): WorkingLane {
  const keyIndexes = plan.key.map(name => plan.columns.findIndex(column => column.source === name))
  return {
    plan,
    source: { dataset: plan.source, columns: plan.columns, key: plan.key },
    target: { table: plan.target, columns: plan.columns, key: keyIndexes.map(i => plan.columns[i]!.target) },
    keyIndexes,
  }
}

const NOTHING_YET: LaneProgress = {
  begun: false,
  copied: false,
  copiedRows: 0,
  copiedUpTo: null,
  since: null,
  inserted: 0,
  updated: 0,
  deleted: 0,
  lastChange: null,
}

/** The checkpoint of a pipeline that has copied nothing. */
export function firstCheckpoint(
  pipeline: string,
  epoch: number,
  position: Position,
  lanes: readonly unknown[],
  now: number,
): Checkpoint {
  return {
    pipeline,
    epoch,
    position,
    completeUpTo: new Date(now).toISOString(),
    lanes: lanes.map(() => NOTHING_YET),
    consistent: false,
  }
}

/** The lanes' copy set back to its beginning; what they have counted stays. */
export function uncopied(lane: LaneProgress): LaneProgress {
  return { ...lane, begun: false, copied: false, copiedRows: 0, copiedUpTo: null, since: null }
}

/** Changes that have landed, over all lanes. */
export function landedChanges(lanes: readonly LaneProgress[]): number {
  return lanes.reduce((sum, lane) => sum + lane.inserted + lane.updated + lane.deleted, 0)
}
