import type { FailureKind } from '../failure.ts'
import type { Lane, PrepareStep } from '../plan/plan.ts'
import type { Definition, PipelineState } from './definition.ts'

/** Why a pipeline stopped, in words; `person` when somebody wanted it so. */
export interface StopReason {
  kind: FailureKind | 'person'
  message: string
  remedy: string
  at: string
}

/** A pipeline as it is kept. */
export interface PipelineRecord {
  id: string
  definition: Definition
  state: PipelineState
  /** What its people want of it; the engine works towards that. */
  wanted: 'run' | 'pause' | 'stop'
  reason: StopReason | null
  /** Raised whenever an engine takes the pipeline. */
  epoch: number
  /** A checkpoint of an earlier epoch belongs to an earlier start and is not continued. */
  freshFrom: number
  /** The plan as it was started. */
  lanes: Lane[]
  steps: PrepareStep[]
  startedAt: string | null
}

/** Something that happened, for the log. */
export interface LogLine {
  id: number
  at: string
  level: 'info' | 'warning' | 'error'
  pipeline: string | null
  message: string
  remedy: string | null
  byPerson: boolean
}

/** A log line before it is kept. */
export type LogEntry = Pick<LogLine, 'level' | 'pipeline' | 'message'> &
  Partial<Pick<LogLine, 'remedy' | 'byPerson'>>
