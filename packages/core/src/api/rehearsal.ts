import type { DatasetName } from '../records/dataset.ts'
import type { Key } from '../records/value.ts'
import type { LaneRehearsed } from '../shape/rehearsal.ts'

export interface SharedKeys {
  rows: number
  /** Of more rows it was not looked into. */
  all: boolean
  example: { key: Key; origin: string }
}

/** All rows of a setup through its whole shaping, with nothing written: how far that is, and what it has found. */
export interface FullRehearsal {
  id: string
  /** `ended`: by somebody, or since nobody looked at it any more. */
  state: 'reading' | 'done' | 'ended' | 'failed'
  /** Why it failed. */
  problem: { message: string; remedy: string } | null
  lanes: (LaneRehearsed & {
    source: DatasetName
    /** The tag of the origin; empty where there is one source. */
    origin: string
    /** Rows that there should be, by the catalogue. */
    expected: number
    read: boolean
    /** Keys that an origin read before has, too; null: none was found. */
    shared: SharedKeys | null
  })[]
}

/** The first rows of a table as they would reach the target. */
export interface RehearsedRows {
  columns: {
    name: string
    type: string
    /** The source column it is made of; null: of none. */
    source: string | null
    /** It is that column's own value. */
    taken: boolean
  }[]
  rows: {
    /** The source's values in the order of `columns`; null where a column is made of none. */
    source: (string | null)[]
    /** Null: the row is not in scope. `misfit`: why there is no value, so that the pipeline would stop there. */
    target: (string | null | { misfit: string })[] | null
  }[]
  /** How many of the rows that were looked at are in scope. */
  inScope: number
  looked: number
  /** Those were all there are. */
  all: boolean
}
