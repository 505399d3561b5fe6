/** What travels between server and interface as JSON, beside the values defined elsewhere in core. */
import type { Definition, PipelineState } from '../definition/definition.ts'
import type { StopReason } from '../definition/pipeline.ts'
import type { TideSample } from '../pace/tide.ts'
import type { Plan } from '../plan/plan.ts'
import type { DatasetName } from '../records/dataset.ts'

/** RFC 9457 problem details with a remedy. */
export interface Problem {
  type: string
  title: string
  status: number
  detail: string
  remedy: string
}

export interface LaneStatus {
  source: DatasetName
  target: DatasetName
  copied: boolean
  /** It is copied again, or catches up with its copy, while the others go on. */
  apart: boolean
  copiedRows: number
  /** Rows to copy, as the plan knew them. */
  plannedRows: number
  rowsPerSecond: number
  secondsLeft: number | null
  inserted: number
  updated: number
  deleted: number
  rowsThere: number | null
  lastChange: string | null
}

export interface PipelineStatus {
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
  lagSeconds: number | null
  /** The lag's parts in seconds, from the source into the journal and from there to the target; `null` without a journal. */
  delay: { journal: number; target: number } | null
  /** Changes at the source that have not landed. */
  backlog: number | null
  committedPerMinute: number
  landedPerMinute: number
  landed: number
  completeUpTo: string | null
  consistent: boolean
  position: string | null
  lanes: LaneStatus[]
  /** Lanes can be added, or copied again, while the others go on. */
  copiesBeside: boolean
  startedAt: string | null
  /** Greatest lag in each of the last 60 minutes, oldest first. */
  strip: (number | null)[]
  /** The newest reading. */
  sample: TideSample | null
  /** Who runs it, where there is more than one engine or it is tied to one that is gone. */
  engine: RunBy | null
}

/** The engine that runs a pipeline. */
export interface RunBy {
  name: string
  /** It is this very process. */
  here: boolean
  live: boolean
  seenAt: string
  /** What ties the pipeline to it. */
  tie: string | null
}

export interface EngineInfo {
  id: string
  name: string
  here: boolean
  live: boolean
  startedAt: string
  seenAt: string
  /** How many pipelines it runs. */
  pipelines: number
}

/** One record as it stands on both sides of a lane, in canonical text. */
export interface RowPair {
  key: string[]
  fields: {
    name: string
    target: string
    inKey: boolean
    same: boolean
    source: string | null
    there: string | null
  }[]
  /** On which sides there is such a row. */
  atSource: boolean
  atTarget: boolean
}

export interface PlanAnswer extends Plan {
  /** Says of a start that it is to do just this, or be refused; empty where there is nothing to start. */
  digest: string
  /** Statements at the target, in order. */
  statements: string[]
  sourceStatements: string[]
  captureNote: string
  /** Seconds the copy should take by the last one between the two; `null` when there was none. */
  estimateSeconds: number | null
}

export interface ConnectorInfo {
  kind: string
  title: string
  summary: string
  band: 'apps' | 'databases' | 'warehouses'
  roles: ('source' | 'target')[]
  configSchema: JsonSchema
}

/** The part of JSON Schema that connectors use. */
export interface JsonSchema {
  required?: string[]
  properties: Record<string, JsonSchemaProperty>
}

export interface JsonSchemaProperty {
  type: 'string' | 'integer' | 'boolean'
  title: string
  description?: string
  default?: string | number | boolean
  enum?: string[]
  enumTitles?: string[]
  minimum?: number
  maximum?: number
  writeOnly?: boolean
  /** Long text. */
  multiline?: boolean
  /** Seldom changed; kept out of sight at first. */
  advanced?: boolean
}

/** A pipeline that reads a journal. */
export interface JournalFollower {
  pipeline: string
  name: string
  /** Up to where it needs nothing any more. */
  position: string
  bytesBehind: number
}

/** What a server says of a connection's journal: all, or who keeps it, or that there is none. */
export type JournalAnswer = JournalInfo | { keptBy: string } | null

/** A source's journal, for people. Times are the source's, ISO 8601. */
export interface JournalInfo {
  kind: string
  bytes: number
  segments: number
  start: { position: string; at: string | null }
  end: { position: string; at: string | null }
  /** Where the source's own log ended when it was last heard. */
  head: string | null
  /** The source's clock now; `null` when it has not been heard for a while. */
  heardAt: string | null
  completeUpTo: string | null
  retry: { attempt: number; message: string; remedy: string; nextAt: string } | null
  fault: { message: string; remedy: string } | null
  /** What the disk says when it does not take what is written. */
  diskTrouble: string | null
  retention: { hours: number; bytes: number; hardBytes: number } | null
  followers: JournalFollower[]
}

export interface ConnectionInfo {
  id: string
  name: string
  kind: string
  config: Record<string, unknown>
  secretsSet: string[]
  address: string
  screen: string | null
  lastCheck: { at: string; failed: number; warnings: number } | null
  /** Names of the pipelines that use it. */
  usedBy: { id: string; name: string }[]
}
