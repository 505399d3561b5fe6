/**
 * What every connector offers. A new connector is a folder and a line in `registry.ts`; the conformance suite in
 * `tests/` says whether it keeps its word.
 */
import type { Catalogue, CheckItem, Grid } from '@tide/core/api/browse'
import type { NetEffect, Put } from '@tide/core/apply/net-effect'
import type { LaneColumn, PrepareStep, TargetProfile } from '@tide/core/plan/plan'
import type { Position } from '@tide/core/position/position'
import type { SourceTransaction } from '@tide/core/records/change'
import type { DatasetName } from '@tide/core/records/dataset'
import type { LoggedRelation } from '@tide/core/records/relation'
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
  /** How many questions of people run at once; the others wait. */
  questionsAtOnce: number
  /** Settings that say where secrets go: when one changes, they are asked for again. */
  placeSettings: readonly string[]
  /** Settings that cannot change while the source is followed. */
  fixedWhileFollowed: readonly string[]
  /** Equal for two connections that reach the same physical system. */
  identity(config: Config): string
  /** How to reach the system, in one line for people; without secrets. */
  address(config: Config): string
  /** `reader`: the name of its log's reader at the source, where the connection is saved. */
  check(config: Config, reader?: string): AsyncIterable<CheckItem>
  open(config: Config): Promise<Session>
}

/** An open connection. What is not offered is absent. */
export interface Session {
  catalogue(): Promise<Catalogue>
  /** The first rows in the order the system gives them. */
  preview(table: DatasetName, limits: QueryLimits): Promise<Grid>
  count(table: DatasetName, limits: QueryLimits): Promise<number>
  /** One row in canonical text, by its key, or the last in key order; `null` when there is none. */
  row(table: RowTable, key: Key | null): Promise<Row | null>
  /** Runs one statement that can do nothing but ask; others are refused by name (docs/decisions/0016). */
  query?(sql: string, limits: QueryLimits): Promise<Grid>
  source?: SourceSide
  /** In place of `source` where the system's own log is followed, through a journal. */
  log?: LogSide
  target?: TargetSide
  /** What of the system one process alone can hold, in words; its pipelines stay with that process. */
  heldAlone?: string
  close(): Promise<void>
}

/** A table as one row of it must be read. */
export interface RowTable {
  name: DatasetName
  columns: readonly { name: string; type: LogicalType; nativeType: string }[]
  key: readonly string[]
}

/** What a question may cost. Whatever runs at the system is ended there when time is up or the signal aborts. */
export interface QueryLimits {
  maxRows: number
  /** Of all that comes back. */
  maxBytes: number
  timeoutMs: number
  signal: AbortSignal
}

/** A lane as the source must read it. */
export interface SourceLane {
  dataset: DatasetName
  columns: readonly Pick<LaneColumn, 'source' | 'type' | 'nativeType'>[]
  key: readonly string[]
  /** Its changes up to here are in its copy already and are left out. */
  since?: Position | null
}

/** Rows of a part of a table as CSV (see `csvLine`). Whoever takes it reads `csv` to its end, or leaves its loop. */
export interface CopyRange {
  csv: AsyncIterable<Uint8Array> | Iterable<Uint8Array>
  /** Where a later copy goes on when this range and those before it have landed; `null`: it is the table's last. */
  upTo: string | null
}

/** The tables as they can be copied now. */
export interface CopyView {
  /** The copy holds exactly what was committed up to here; `null`: each range is as of when it is read. */
  position: Position | null
  /** How many ranges can be read at once. */
  readers: number
  /** A table in ranges, after the place that an earlier range named in `upTo`; at least one range, also of no rows. */
  copy(lane: SourceLane, after: string | null, signal: AbortSignal): AsyncIterable<CopyRange>
  close(): Promise<void>
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
  /** The source's clock when this was known, ISO 8601; `null` when the source has not been heard for a while. */
  now: string | null
  /** What is pending is all there is up to this time of the source's clock; `null` when that is not known. */
  completeUpTo: string | null
  pendingChanges: number
  oldestPending: string | null
  /** Where there is a journal: up to when it holds what was committed; `null` when that is all there is. */
  journalEnd?: string | null
}

/** What we wait for at a system, and what would end the wait. */
export interface Wait {
  message: string
  remedy: string
}

/** For how long something may wait for others at the system, and who hears of it. */
export interface Patience {
  /** Called while it waits; null when it goes on. */
  tell(wait: Wait | null): void
  /** It gives up, and fails, when this aborts. */
  signal: AbortSignal
}

export interface SourceSide {
  /** The statements `startCapture` would run now, for the plan. */
  captureStatements(tables: readonly DatasetName[]): Promise<string[]>
  /** What the owner of the source should know about this way of capturing changes. */
  captureNote: string
  /** Records changes of the tables from the returned position on. Repeating it for the same follower starts afresh. */
  startCapture(follower: string, tables: readonly DatasetName[], patience?: Patience): Promise<Position>
  /** Removes what nobody else follows. */
  stopCapture(follower: string): Promise<void>
  /** A view of the tables to copy from; taken after the capture has started. */
  view(follower: string, patience?: Patience): Promise<CopyView>
  /** At most about `maxEvents` events; fails when columns or the capture have changed. */
  read(
    follower: string,
    lanes: readonly SourceLane[],
    from: Position,
    maxEvents: number,
  ): Promise<ChangeBatch>
  /** How long it rests between two looks, where that is its own choice. */
  restMs?: number
  /** Resolves when there may be something new to read, after the time at the latest, or when the signal aborts. */
  news?(milliseconds: number, signal: AbortSignal): Promise<void>
  /** How far the source is ahead of a position, without going there. */
  head(follower: string, lanes: readonly SourceLane[], from: Position): Promise<SourceHead>
  /** The source may forget what comes before. */
  acknowledge(follower: string, upTo: Position): Promise<void>
  /**
   * A second way to the same changes, for lanes that stand elsewhere than the others; absent where a follower can stand in
   * one place only. Views of such a source have a position.
   */
  beside?(): SourceSide & { close(): Promise<void> }
  /** Where there is `beside`: records changes of these tables, too, from the returned position on. */
  extendCapture?(tables: readonly DatasetName[]): Promise<Position>
}

/** A row as bytes, so that nobody needs to look into it on the way to the journal (see `core/records/tuple`). */
export type EncodedRow = Uint8Array

/**
 * Takes what a source's log says, in its order: transactions one after another, each whole. A transaction follows a
 * position when it starts there or later. Times are microseconds since 1970.
 */
export interface LogSink {
  relation(relation: LoggedRelation): void
  /** `start`: where in the log the transaction stands. `at`: when it was committed. */
  begin(start: string, at: number, id: string): void
  insert(relation: number, after: EncodedRow): void
  /** `before`: the old key, or the old row; null where the key did not change and nothing is told. */
  update(relation: number, before: EncodedRow | null, after: EncodedRow): void
  remove(relation: number, before: EncodedRow): void
  truncate(relation: number): void
  /** `end`: the position behind the transaction. */
  commit(end: string): void
  /** The source was heard, and this was its clock; `head`: where its log ended. */
  heard(at: number, head?: string): void
  /** All that was committed when the source's clock stood at `at` has been given; nothing more up to `position`. */
  reached(position: string, at: number): void
  /** There is no room for more; whoever fills waits for `room`. */
  readonly full: boolean
  room(): Promise<void>
  /** Up to where the source may forget: what is durable on our side. */
  durable(): string
}

/** A source's log, read once by one reader for everybody. `reader` names it at the source. */
export interface LogSide {
  /** How long the journal keeps what nobody needs any more. */
  retention: { hours: number; bytes: number; hardBytes: number }
  /** Its reader picks the tables out of the whole log, and must begin again when they become more. */
  selectsTables: boolean
  /** The statements `open` or `extend` would run now, for the plan. */
  captureStatements(reader: string, tables: readonly DatasetName[]): Promise<string[]>
  /** What the owner of the source should know about this way of capturing changes. */
  captureNote: string
  /** Makes the source keep its log for the reader, from the returned position on. Repeating it starts afresh. */
  open(reader: string, tables: readonly DatasetName[], patience?: Patience): Promise<Position>
  /** From the returned position on, the log tells of these tables, too; `added`: of which it did not before. */
  extend(
    reader: string,
    tables: readonly DatasetName[],
  ): Promise<{ position: Position; added: DatasetName[] }>
  /** Fails structurally when the source is not the one the position is from, or no longer has what follows it. */
  inspectHistory(reader: string, from: Position): Promise<void>
  /** Fails structurally when the log does not tell of all these tables any more. */
  inspectTables(reader: string, tables: readonly DatasetName[]): Promise<void>
  /** The source need not keep its log for the reader any more. */
  close(reader: string): Promise<void>
  /** Reads what the log tells of the tables, from the position on, into the sink until the signal aborts. */
  follow(
    reader: string,
    from: Position,
    tables: readonly DatasetName[],
    sink: LogSink,
    signal: AbortSignal,
  ): Promise<void>
  /** A view at a position of the log. */
  view(reader: string, patience?: Patience): Promise<CopyView>
}

/** A lane as the target must write it. */
export interface TargetLane {
  table: DatasetName
  columns: readonly LaneColumn[]
  /** Target column names. */
  key: readonly string[]
}

export interface LaneProgress {
  /** Rows of the copy may be there. */
  begun: boolean
  /** The copy is complete. */
  copied: boolean
  copiedRows: number
  /** Where the copy goes on while it is not complete (see `CopyRange`). */
  copiedUpTo: string | null
  /** The copy holds the changes up to here, where the source can say so. */
  since: Position | null
  /** Where the lane stands while it is copied beside the others and catches up; absent when it stands where they do. */
  own?: Position
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

export interface TargetSide {
  profile: TargetProfile
  /** The statements of the steps, one each: the plan shows these very statements, and `prepare` runs them. */
  ddl(steps: readonly PrepareStep[]): string[]
  /** Prepares the tables and writes the first checkpoint in one transaction. */
  prepare(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void>
  /** Prepares more tables and writes the checkpoint that has their lanes. Repeating it after a failure is safe. */
  extend(steps: readonly PrepareStep[], checkpoint: Checkpoint): Promise<void>
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
  /** Empties the lanes' tables and writes the checkpoint in one transaction. */
  empty(lanes: readonly TargetLane[], checkpoint: Checkpoint): Promise<void>
  /** Takes the pipeline's checkpoint away; its tables stay. */
  forget(pipeline: string): Promise<void>
  /** Fails when it takes long. */
  count(table: DatasetName): Promise<number>
}
