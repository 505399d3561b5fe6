import type { Position } from '@tide/core/position/position'
import type { SourceLane, TargetLane } from '@tide/connectors/contract'
import type { Lane } from '@tide/core/plan/plan'

/** A lane as both sides and the fold need it. */
export interface WorkingLane {
  /** Its index among the lanes of the pipeline. */
  place: number
  plan: Lane
  source: SourceLane
  target: TargetLane
  keyIndexes: number[]
}

export function workingLane(plan: Lane, place: number): WorkingLane {
  const keyIndexes = plan.key.map(name => plan.columns.findIndex(column => column.source === name))
  return {
    place,
    plan,
    source: { dataset: plan.source, columns: plan.columns, key: plan.key },
    target: { table: plan.target, columns: plan.columns, key: keyIndexes.map(i => plan.columns[i]!.target) },
    keyIndexes,
  }
}

/** A lane, and up to where it has the changes already. */
export interface FollowedLane {
  lane: WorkingLane
  since: Position | null
}

export function sourceLanesOf(followed: readonly FollowedLane[]) {
  return followed.map(({ lane, since }) => ({ ...lane.source, since }))
}
