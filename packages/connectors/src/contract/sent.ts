/** What pipelines have sent into apps: kept beside the store, a file for each, which one process alone can hold. */
import type {
  SaidByHand,
  SendCounts,
  SendOp,
  SendResult,
  SendRow,
  SendRun,
  SentRecord,
} from '@tide/core/api/send'
import type { SendDefinition } from '@tide/core/definition/send'
import type { ByHand } from '@tide/core/send/by-hand'

export interface SentStates {
  /**
   * Whoever opens it closes it. `place`: where it is sent to and by which key; what was sent elsewhere, or by another key, is another matter, and is
   * kept apart.
   */
  open(pipeline: string, place: string): Promise<SentState>
  /** Nobody uses it any more. */
  remove(pipeline: string): Promise<void>
}

/** An operation that is to be sent, or may have been. */
export interface SentOperation {
  op: SendOp
  /** The row key. */
  key: string[]
  id: string | null
  /** What is sent. */
  values: Record<string, string | null>
  /** By us in the app, once it is accepted; by field. */
  becomes: Record<string, string | null>
  was: Record<string, string | null> | null
  /** The row as it was told, by which it is known whether it says anything new; null: none is behind it. */
  told: string | null
}

/** Operations that go into one call. */
export interface SentCall {
  /** Names the call, for apps that know repeats. */
  once: string
  run: string
  operations: SentOperation[]
}

/** What came of an operation: the record's key in the app, or why it was refused. `gone`: it was not there, and is to be made anew. */
export type SentOutcome =
  { gone: true } | { id: string | null } | { field: string | null; reason: string; remedy: string }

export interface SentTotals {
  sent: number
  held: number
  ran: boolean
  /** The last run that was kept with how it went. */
  last: SendRun | null
  /** What whole runs of late have done: the middle of each; null: they were too few. */
  usual: Pick<SendCounts, 'create' | 'change' | 'remove'> | null
}

export interface SentState {
  /** `ran`: a whole result was sent before. */
  totals(): Promise<SentTotals>
  /** Lines of CSV: see `comparedLine`. They are there to be looked at until what is returned is closed. */
  compare(lines: AsyncIterable<Uint8Array>, asked: CompareAsked): Promise<Compared>
  /** Calls of which it is not known what has become. */
  unsettled(): Promise<SentCall[]>
  /** Before it is sent. */
  begin(call: SentCall): Promise<void>
  /** An outcome for each of its operations. */
  end(call: SentCall, outcomes: readonly SentOutcome[], at: string): Promise<void>
  /** It is known that nothing of it was done. */
  forget(call: SentCall): Promise<void>
  /** Refused records are tried again by the next run, as they are at the source: all, or those of these keys. */
  letGo(keys: readonly string[][] | 'all'): Promise<void>
  /** What somebody says of rows; those that are left out are held no longer. */
  sayByHand(said: readonly ByHand[], run: string, at: string): Promise<void>
  /** What was said holds no longer: the rows say something else, or are gone. */
  forgetByHand(keys: readonly string[][]): Promise<void>
  byHand(): Promise<(ByHand & SaidByHand)[]>
  /** A run is over, of a whole result with these fields, or of single records; those of long ago are forgotten. `last`: how it went, for `totals`. */
  keepRun(run: string, fields?: readonly string[], last?: SendRun): Promise<void>
  /** The newest first; `find`: in key, id or values. */
  results(asked: { run?: string; find?: string; refused?: boolean; limit: number }): Promise<SendResult[]>
  /** Those behind that number, in their order. */
  resultsAfter(n: number, limit: number): Promise<(SendResult & { n: number })[]>
  /** Up to which number results are written at the source; those behind it are kept until they are. null: they are not written there. */
  logged(): Promise<number | null>
  setLogged(n: number | null): Promise<void>
  records(asked: { find?: string; limit: number }): Promise<SentRecord[]>
  held(limit: number): Promise<SendRow[]>
  /** Of records in the app, those that were sent. */
  withIds(ids: readonly string[]): Promise<SentRecord[]>
  /** Those that were sent and are none of these, the first so many. */
  withoutIds(ids: readonly string[], limit: number): Promise<SentRecord[]>
  close(): Promise<void>
}

export interface CompareAsked {
  /** How many match keys each line has. */
  matches: number
  /** The fields that are sent: with other ones, what is the same must be looked at anew. */
  fields: readonly string[]
  /** Rows that are taken for changed, whatever they are: all, or those of these keys alone, and nothing else. */
  again?: 'all' | { keys: readonly string[][]; only: boolean }
}

export interface Compared {
  /** Rows of the result. */
  rows: number
  /** Without a whole key. */
  keyless: number
  /** Keys that several rows have, some of them. */
  doubled: { key: string[]; rows: number }[]
  /** Rows that may meet records. */
  fresh: number
  /** Lines of CSV: the record's key, then what is to be met by each match key. */
  meet(lines: AsyncIterable<Uint8Array>): Promise<{ none: number; one: number; several: number }>
  decide(definition: Pick<SendDefinition, 'may' | 'several'>): Promise<SendCounts>
  /** In the order in which they are to be sent, behind that number. */
  operations(after: number, limit: number): Promise<{ n: number; operation: SentOperation }[]>
  /** Of each kind, the first. */
  look(each: number, find: string): Promise<SendRow[]>
  reasons(): Promise<{ field: string | null; reason: string; remedy: string; rows: number }[]>
  close(): Promise<void>
}
