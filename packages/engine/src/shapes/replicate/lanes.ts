import type { KeyedTable } from '@tide/connectors/contract/records'
import type { TargetLane } from '@tide/connectors/contract/target'
import type { Lane } from '@tide/core/plan/lane'
import type { Position } from '@tide/core/position/position'
import { copiedShaper, type ShapeCopied } from '@tide/core/shape/copied'
import { moves } from '@tide/core/scope/relative'
import { laneHistory, type LaneHistory } from './history.ts'
import { laneShaper, type LaneShaper } from '@tide/core/shape/row'
import type { Shaping } from '@tide/core/shape/written'
import type { FollowedTable } from '../../journal/followed.ts'

/** A lane as both sides, the fold and the shaping need it. */
export interface WorkingLane {
  /** Among the lanes of the pipeline. */
  index: number
  plan: Lane
  source: KeyedTable
  target: TargetLane
  /** Where the source's key is in the rows that are read. */
  identityIndexes: number[]
  shaper: LaneShaper
  /** Every so many seconds time alone moves rows into its scope, or out of it; undefined: never. */
  movesEvery: number | undefined
  /** Undefined where copied rows land as they are read. */
  copied: ShapeCopied | undefined
  /** Undefined where no history is kept. */
  history: LaneHistory | undefined
  /** Of what changes come to, nothing but its history lands. */
  changesAlone: boolean
}

export function workingLane(plan: Lane, index: number, shaping: Shaping): WorkingLane {
  const { source, target, reads, identity, writes, key, files, history } = plan
  const column = writes.find(({ value }) => value.from === 'origin')
  return {
    index,
    plan,
    source: { dataset: source, columns: reads, key: identity },
    target: {
      table: target,
      columns: writes,
      key,
      ...(column ? { part: { column: column.name, value: shaping.origin } } : {}),
      ...(files ? { files } : {}),
      ...(files?.as === 'changes' ? { changes: history!.columns } : {}),
    },
    identityIndexes: identity.map(name => reads.findIndex(column => column.name === name)),
    shaper: laneShaper(plan, shaping),
    movesEvery: plan.scope ? moves(plan.scope, reads) : undefined,
    copied: copiedShaper(plan, shaping),
    history: laneHistory(plan, shaping),
    changesAlone: files?.as === 'changes',
  }
}

/** A lane, and up to where it has the changes already. */
export interface FollowedLane {
  lane: WorkingLane
  since: Position | null
  /** Up to where its changes are in its history already. */
  kept: Position | null
}

export function followedTables(followed: readonly FollowedLane[]): FollowedTable[] {
  return followed.map(({ lane, since }) => ({ ...lane.source, since, leftOut: lane.plan.leftOut }))
}
