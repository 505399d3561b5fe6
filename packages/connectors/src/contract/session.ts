/**
 * What every connector offers. A new connector is a folder and a line in `registry.ts`; the conformance suite in
 * `tests/` says whether it keeps its word.
 */
import type { Catalogue, CheckItem, Grid, TableVersion } from '@tide/core/api/browse'
import type { Quoting } from '@tide/core/definition/query-parameters'
import type { DatasetName } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import type { AppSide } from './app.ts'
import type { KeyedTable, OrderedTable, ScannedTable } from './records.ts'
import type { RowSide } from './rows.ts'
import type { Removal } from './removal.ts'
import type { LogSide } from './source.ts'
import type { TargetLane, TargetSide } from './target.ts'

/** A connection's settings, valid against the connector's `configSchema`. */
export type Config = Record<string, unknown>

export type KeepSecrets = (secrets: Config) => Promise<void>

export interface Connector {
  kind: string
  title: string
  summary: string
  /** Where the map places such systems. */
  band: 'apps' | 'databases' | 'warehouses' | 'files'
  roles: ('source' | 'target')[]
  /** JSON Schema of the settings; drives validation and the form. `writeOnly` properties are secrets. */
  configSchema: object
  /** How many questions of people run at once; the others wait. */
  questionsAtOnce: number
  /** How texts are written in its SQL; `plain` where nothing is said. */
  quoting?: Quoting
  /** Settings that say where secrets go: when one changes, they are asked for again. */
  placeSettings: readonly string[]
  /** Settings that cannot change while the source is followed. */
  fixedWhileFollowed: readonly string[]
  /** Equal for two connections that reach the same physical system. */
  identity(config: Config): string
  /** How to reach the system, in one line for people; without secrets. */
  address(config: Config): string
  /** `reader`: the name of its log's reader at the source, where the connection is saved. */
  check(config: Config, reader?: string, keep?: KeepSecrets): AsyncIterable<CheckItem>
  /** `keep`: called with secrets that the system has given in place of others, which are good no longer. */
  open(config: Config, keep?: KeepSecrets): Promise<Session>
  /** Of systems that a person can be sent to, to let us in on a page of theirs; undefined: not with these settings. */
  signIn?(config: Config): SigningIn | undefined
}

/** A person is sent to the system's page, and comes back with an answer. */
export interface SigningIn {
  /** `redirect`: where the person comes back to. What is returned is remembered until then, and shown to nobody. */
  begin(redirect: string): Promise<{ url: string; state: string }>
  /** Secrets to keep. */
  finish(begun: { url: string; state: string }, answer: URLSearchParams): Promise<Config>
  /** We are let in no longer. */
  end(): Promise<void>
}

/** An open connection. What is not offered is absent. */
export interface Session {
  catalogue(): Promise<Catalogue>
  /** The first rows in the order the system gives them. */
  preview(table: DatasetName, limits: QueryLimits): Promise<Grid>
  count(table: DatasetName, limits: QueryLimits): Promise<number>
  /** Of tables that keep what they were: the newest versions first, so many at most. */
  versions?(table: DatasetName, most: number): Promise<TableVersion[]>
  /** The rows of a table as they were then; of change files, those that came with it. */
  previewAt?(table: DatasetName, version: string, limits: QueryLimits): Promise<Grid>
  /** Rows that are in the one version of a table and not in the other, each behind whether it came or went. */
  difference?(table: DatasetName, from: string, to: string, limits: QueryLimits): Promise<Grid>
  /** One row in canonical text, by its key, or the last in key order; `null` when there is none. */
  row(table: KeyedTable, key: Key | null): Promise<Row | null>
  /** Those of these rows that are there, in canonical text; a text that is no value of the key's type is that of none. */
  rows?(table: KeyedTable, keys: readonly Key[]): Promise<Row[]>
  /** All rows as CSV (see `csvLine`) in the order of their keys, as of one moment; a part may end anywhere. */
  ordered?(table: OrderedTable, limits: Omit<StreamLimits, 'batchRows'>): AsyncGenerator<Uint8Array>
  /** The system's own time now, ISO 8601 in microseconds: what was read before was committed before that. */
  clock?(): Promise<string>
  /** As its connector's. */
  quoting?: Quoting
  /** Runs one statement that can do nothing but ask; others are refused by name (docs/decisions/0016). */
  query?(sql: string, limits: QueryLimits): Promise<Grid>
  /**
   * The rows of such a statement batch by batch, at least one, so that the columns are known also where there are no rows;
   * whoever takes no more of them ends it at the system.
   */
  stream?(sql: string, limits: StreamLimits): AsyncGenerator<RowBatch>
  /**
   * The rows of a table in canonical text, as a copy reads them, batch by batch and at least one; in no order that could be
   * relied on. The columns' types are the catalogue's own.
   */
  scan?(table: ScannedTable, limits: StreamLimits): AsyncGenerator<Row[]>
  /**
   * Of an archive: asks about its rows and live ones as of one table by the archive's name, whose column `in_archive` tells them apart. A
   * row that is among both is the live one. `live`: CSV in the order of the lane's columns.
   */
  together?(
    lane: TargetLane,
    live: AsyncIterable<Uint8Array>,
    sql: string,
    limits: QueryLimits,
  ): Promise<Grid>
  log?: LogSide
  removal?: Removal
  target?: TargetSide
  app?: AppSide
  /** Its tables' rows can be written one by one. */
  singleRows?: RowSide
  /** What of the system one process alone can hold, in words; its pipelines stay with that process. */
  heldAlone?: string
  close(): Promise<void>
}

/** Rows in canonical text, with the names of their columns. */
export type RowBatch = Pick<Grid, 'columns' | 'rows'>

export interface StreamLimits {
  /** In one batch; fewer where they are large. */
  batchRows: number
  /** For all of them. */
  timeoutMs: number
  signal: AbortSignal
}

/** What a question may cost. Whatever runs at the system is ended there when time is up or the signal aborts. */
export interface QueryLimits {
  maxRows: number
  /** Of all that comes back. */
  maxBytes: number
  timeoutMs: number
  signal: AbortSignal
}
