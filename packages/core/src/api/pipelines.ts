import type { LaneProgress } from '../checkpoint/checkpoint.ts'
import type { Definition, PipelineState, ReplicateDefinition } from '../definition/definition.ts'
import type { StopReason } from '../definition/pipeline.ts'
import type { TideSample } from '../pace/tide.ts'
import type { DatasetName } from '../records/dataset.ts'
import type { RunBy } from './engines.ts'
import type { SendStatus } from './send.ts'
import type { TwoWayStatus } from './two-way.ts'

export interface LaneStatus {
  /** The tag of its origin; absent where the pipeline has one source. */
  origin?: string
  source: DatasetName
  target: DatasetName
  copied: boolean
  /** It is copied again, or catches up with its copy, while the others go on. */
  detached: boolean
  /** It stands still while the others go on, since then; `why`: null where a person wants that. */
  paused: LaneProgress['paused'] | null
  copiedRows: number
  /** Rows to copy, as the plan knew them. */
  plannedRows: number
  rowsPerSecond: number
  secondsLeft: number | null
  inserted: number
  updated: number
  deleted: number
  truncated: number
  /** Of all changes that have landed, as the source told them. */
  bytes: number
  rowsThere: number | null
  /** Rows at the target that are not as they should be, since it would not take them. */
  differs: number
  /** Changes that were passed over when somebody went forward. */
  leftOut: number
  lastChange: string | null
  /** Of a table that is archived: rows that are deleted at the source, and rows that stay since they changed or are referred to. */
  archive?: { deleted: number; kept: number }
}

/** How one of several origins stands; by its `id` it can be paused, continued, stopped and recopied alone. */
export interface OriginStatus extends Pick<
  PipelineStatus,
  | 'id'
  | 'state'
  | 'wanted'
  | 'reason'
  | 'retry'
  | 'waits'
  | 'lagSeconds'
  | 'backlog'
  | 'landedPerMinute'
  | 'completeUpTo'
  | 'consistent'
  | 'position'
> {
  tag: string
  connection: string
  connectionName: string
}

/** What the status of a replication says beside what all pipelines have in common. */
export interface ReplicateStatus {
  completeUpTo: string | null
  consistent: boolean
  position: string | null
  lanes: LaneStatus[]
}

/** What a status says by the shape of its pipeline; what a shape has nothing of is empty or not known. */
export interface ShapeStatus extends ReplicateStatus {
  /** Of one that sends. */
  send?: SendStatus
  /** Of one that keeps two places in step. */
  twoWay?: TwoWayStatus
}

/** What the statuses of all pipelines have in common. */
export interface CommonStatus {
  id: string
  definition: Definition
  fromName: string
  toName: string
  state: PipelineState
  wanted: 'run' | 'pause' | 'stop'
  reason: StopReason | null
  /** Set while something transient is tried again. */
  retry: { attempt: number; message: string; remedy: string; nextAt: string } | null
  /** What it waits for at the source, and what would end the wait. */
  waits: { message: string; remedy: string } | null
  /** The last change of its plan is still being carried out. */
  changing: boolean
  lagSeconds: number | null
  /** The lag's parts in seconds, from the source into the journal and from there to the target; `null` when it is not known. */
  delay: { journal: number; target: number } | null
  /** Changes at the source that have not landed. */
  backlog: number | null
  committedPerMinute: number
  landedPerMinute: number
  landed: number
  startedAt: string | null
  /** Greatest lag in each of the last 60 minutes, oldest first. */
  strip: (number | null)[]
  /** The newest reading. */
  sample: TideSample | null
  /** Until then, its log tells details. */
  detailedUntil: string | null
  /** None where there is one source. */
  origins: OriginStatus[]
  /** Who runs it, where there is more than one engine or it is tied to one that is gone. */
  engine: RunBy | null
}

export type PipelineStatus = CommonStatus & ShapeStatus

/** Of one that replicates. */
export type ReplicationStatus = PipelineStatus & { definition: ReplicateDefinition }
