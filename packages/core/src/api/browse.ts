/** What connectors tell people about a system. */
import type { Dataset } from '../records/dataset.ts'

/** One item of a test. */
export interface CheckItem {
  what: string
  result: 'ok' | 'warning' | 'failed'
  /** What alone it is needed for; absent: for all that is done with the system. */
  for?: 'following' | 'asking'
  found: string
  /** What to do about it; `paste` is the exact text where there is one. */
  remedy?: string
  paste?: string
}

export interface Catalogue {
  schemas: string[]
  datasets: Dataset[]
}

/** Values as text for people to read. */
export interface Grid {
  columns: { name: string; type: string }[]
  rows: (string | null)[][]
  /** All the rows there are, where `rows` was cut; `null` when counting them took too long. */
  total: number | null
  /** Which limit the rows were cut at, or a value was; `null`: all is there. */
  cut: 'rows' | 'bytes' | null
  milliseconds: number
}

/** What a table of a lake was at some time: a snapshot of a merged table, or what a file of changes has brought. */
export interface TableVersion {
  /** A snapshot's id, or a manifest's number. */
  id: string
  /** ISO 8601. */
  at: string
  /** `append`, `overwrite`, `delete`; of change files `copy`, `changes`, `anew`. */
  operation: string
  /** That came with it, and that went. */
  added: number
  removed: number
  /** There are then; of change files, since all began anew. */
  rows: number
  files: number
  /** Where its pipeline stood in the source's log, as the source prints that; null: it does not say. */
  position: string | null
  completeUpTo: string | null
}

/** A question on its way: how many wait before it, or that its turn has come. */
export interface QuestionTurn {
  ahead: number
  running: boolean
}
