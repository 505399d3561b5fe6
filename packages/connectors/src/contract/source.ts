/** How a source is copied and followed. */
import type { Position } from '@tide/core/position/position'
import type { DatasetName } from '@tide/core/records/dataset'
import type { LoggedRelation } from '@tide/core/records/relation'
import type { KeyedTable } from './records.ts'

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
  copy(table: KeyedTable, after: string | null, signal: AbortSignal): AsyncIterable<CopyRange>
  close(): Promise<void>
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

/** What is read of a log. */
export interface LogReading {
  from: Position
  /** In the order in which they came to it. */
  tables: readonly DatasetName[]
  /** Positions that were given out and are still ahead: whoever goes from one point in time to the next stops at each. */
  stops: readonly string[]
}

/** Pipelines that follow the source without a journal, as earlier versions did. */
export interface EarlierFollower {
  id: string
  tables: readonly DatasetName[]
}

/**
 * What a source tells of its changes, read once by one reader for everybody into a journal: its own log, a table that
 * triggers fill, or rows by the time they were written. `reader` names the reader at the source.
 */
export interface LogSide {
  /** How long the journal keeps what nobody needs any more. */
  retention: { hours: number; bytes: number; hardBytes: number }
  /** Its reader is told of tables and positions when it begins, and must begin again when they become more. */
  selectsTables: boolean
  /** By how much it tells late, by its way of looking, in milliseconds. */
  lateMs: number
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
  /**
   * Takes over from followers that had no journal, one of which stands at `position`: what follows the returned position
   * is there for all of these tables. Absent where there never were any.
   */
  adopt?(reader: string, followers: readonly EarlierFollower[], position: Position): Promise<Position>
  /** Fails structurally when the source is not the one the position is from, or no longer has what follows it. */
  inspectHistory(reader: string, from: Position): Promise<void>
  /** Fails structurally when the log does not tell of all these tables any more. */
  inspectTables(reader: string, tables: readonly DatasetName[]): Promise<void>
  /** The source need not keep its log for the reader any more. */
  close(reader: string): Promise<void>
  /** Reads what the log tells into the sink until the signal aborts. */
  follow(reader: string, reading: LogReading, sink: LogSink, signal: AbortSignal): Promise<void>
  /** A view of the tables to copy from. */
  view(reader: string, patience?: Patience): Promise<CopyView>
}
