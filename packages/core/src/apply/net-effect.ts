import type { PackedRow } from '../records/tuple.ts'
import type { Key } from '../records/value.ts'

/**
 * A row as it stands in the end, under its key at the target. Values that were never sent come from the target's present
 * row of key `from`.
 */
export interface Put {
  key: Key
  /** The source's own key of it. */
  identity: Key
  row: PackedRow
  from?: Key
}

/** What a run of source transactions comes to in one target table. */
export interface NetEffect {
  /** The lane's rows go first, all of them. */
  truncate: boolean
  /** Instead: all rows that are not marked yet get this value in this column first. */
  markAll?: { column: string; value: string }
  /** Keys of which no row is left. */
  removed: Key[]
  puts: Put[]
  /** Every put was inserted and nothing else happened: a target that missed nothing has none of the keys. */
  fresh?: boolean
  /** Rows that are put in beside all others, in a table without a key. */
  append?: true
}

export interface OperationCounts {
  inserted: number
  updated: number
  deleted: number
  /** Times that all rows went at once. */
  truncated: number
  /** Of the rows, as they came. */
  bytes: number
}

export function addCounts(a: OperationCounts | undefined, b: OperationCounts): OperationCounts {
  if (!a) return b
  return {
    inserted: a.inserted + b.inserted,
    updated: a.updated + b.updated,
    deleted: a.deleted + b.deleted,
    truncated: a.truncated + b.truncated,
    bytes: a.bytes + b.bytes,
  }
}
