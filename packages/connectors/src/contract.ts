/**
 * What every connector offers. A new connector is a folder and a line in `registry.ts`; the conformance suite in
 * `tests/` says whether it keeps its word.
 */
import type { Catalogue, CheckItem, Grid } from '@tide/core/api/browse'
import type { NetEffect } from '@tide/core/apply/net-effect'
import type { LaneColumn, PrepareStep, TargetProfile } from '@tide/core/plan/plan'
import type { Position } from '@tide/core/position/position'
import type { SourceTransaction } from '@tide/core/records/change'
import type { DatasetName } from '@tide/core/records/dataset'
import type { LogicalType } from '@tide/core/records/types'
import type { Key, Row } from '@tide/core/records/value'

/** A connection's settings, valid against the connector's `configSchema`. */
export type Config = Record<string, unknown>

export interface Connector {
  kind: string
  title: string
  summary: string
  /** Where the map places such systems. */
  band: 'apps' | 'databases' | 'warehouses'
  roles: ('source' | 'target')[]
  /** JSON Schema of the settings; drives validation and the form. `writeOnly` properties are secrets. */
  configSchema: object
  /** Equal for two connections that reach the same physical system. */
  identity(config: Config): string
  /** How to reach the system, in one line for people; without secrets. */
  address(config: Config): string
  check(config: Config): AsyncIterable<CheckItem>
  open(config: Config): Promise<Session>
}

/** An open connection. What is not offered is absent. */
export interface Session {
  catalogue(): Promise<Catalogue>
  /** The first rows in the order the system gives them. */
  preview(table: DatasetName, limit: number): Promise<Grid>
  count(table: DatasetName): Promise<number>
  /** One row in canonical text, by its key, or the last in key order; `null` when there is none. */
  row(table: RowTable, key: Key | null): Promise<Row | null>
  /** Runs one reading statement; others are refused. */
  query?(sql: string, limits: QueryLimits): Promise<Grid>
  source?: SourceSide
  target?: TargetSide
  close(): Promise<void>
}

/** A table as one row of it must be read. */
export interface RowTable {
  name: DatasetName
  columns: readonly { name: string; type: LogicalType; nativeType: string }[]
  key: readonly string[]
}

export interface QueryLimits {
  maxRows: number
  timeoutMs: number
}

/** A lane as the source must read it. */
export interface SourceLane {
  dataset: DatasetName
  columns: readonly Pick<LaneColumn, 'source' | 'type' | 'nativeType'>[]
  key: readonly string[]
}

/** Rows of one key range as CSV (see `csvLine`), from after the range before up to and with `upTo`. */
export interface CopyBatch {
  csv: Uint8Array[]
  rows: number
  bytes: number
  /** The last key of the range; `null`: to the end of the table. */
  upTo: Key | null
}

/** What follows a position, in commit order. */
export interface ChangeBatch {
  transactions: SourceTransaction[]
  /** Where the batch ends; inside a transaction when `complete` is false, and then the rest of it comes next. */
  to: Position
  complete: boolean
  head: SourceHead
}

/** How far the source is ahead of the end of a batch. */
export interface SourceHead {
  /** The source's clock, ISO 8601. */
  now: string
  pendingChanges: number
  oldestPending: string | null
}

export interface SourceSide {
  /** The statements `startCapture` would run now, for the plan. */
  captureStatements(tables: readonly DatasetName[]): Promise<string[]>
  /** What the owner of the source should know about this way of capturing changes. */
  captureNote: string
  /** Records changes of the tables from the returned position on. Repeating it for the same follower starts afresh. */
  startCapture(follower: string, tables: readonly DatasetName[]): Promise<Position>
  /** Removes what nobody else follows. */
  stopCapture(follower: string): Promise<void>
  /** Reads a table in key order, range by range, holding no transaction between ranges. */
  copy(lane: SourceLane, after: Key | null, signal: AbortSignal): AsyncIterable<CopyBatch>
  /** At most about `maxEvents` events; fails when columns or the capture have changed. */
  read(
    follower: string,
    lanes: readonly SourceLane[],
    from: Position,
    maxEvents: number,
  ): Promise<ChangeBatch>
  /** How far the source is ahead of a position, without going there. */
  head(follower: string, lanes: readonly SourceLane[], from: Position): Promise<SourceHead>
  /** The source may forget what comes before. */
  acknowledge(follower: string, upTo: Position): Promise<void>
}

/** A lane as the target must write it. */
export interface TargetLane {
  table: DatasetName
  columns: readonly LaneColumn[]
  /** Target column names. */
  key: readonly string[]
}

export interface LaneProgress {
  /** `copied`: the initial copy is complete. */
  copied: boolean
  copiedRows: number
  /** The last key copied while it is not. */
  copiedUpTo: Key | null
  /** Changes that have landed since the copy began. */
  inserted: number
  updated: number
  deleted: number
  /** When the newest of them was committed at the source. */
  lastChange: string | null
}

/** One row per pipeline at the target, written in the same transaction as the data. */
export interface Checkpoint {
  pipeline: string
  /** Raised whenever an engine takes the pipeline; a write with an older epoch fails. */
  epoch: number
  position: Position
  /** Everything committed at the source up to here has landed; ISO 8601, by the source's clock. */
  completeUpTo: string
  lanes: LaneProgress[]
  /** False while copied rows may be newer than `completeUpTo` says. */
  consistent: boolean
}

export interface LaneEffect {
  lane: TargetLane
  effect: NetEffect
}

/** Changes land together with their checkpoint, or not at all. */
export interface ApplyTransaction {
  apply(effects: readonly LaneEffect[]): Promise<void>
  commit(checkpoint: Checkpoint): Promise<void>
  rollback(): Promise<void>
}

export interface TargetSide {
  profile: TargetProfile
  /** The statements of the steps, one each: the plan shows these very statements, and `prepare` runs them. */
  ddl(steps: readonly PrepareStep[]): string[]
  /** Prepares the tables and writes the first checkpoint in one transaction. */
  prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void>
  load(lane: TargetLane, batch: CopyBatch, checkpoint: Checkpoint): Promise<void>
  begin(): Promise<ApplyTransaction>
  readCheckpoint(pipeline: string): Promise<Checkpoint | undefined>
  /** Empties the lanes' tables and writes the checkpoint in one transaction. */
  empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void>
  /** Takes the pipeline's checkpoint away; its tables stay. */
  forget(pipeline: string): Promise<void>
  count(table: DatasetName): Promise<number>
}
