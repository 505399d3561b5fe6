import type { HeldRecord } from '../definition/held.ts'

/** One change of a row, as its history table has it. */
export interface RowChange {
  operation: string
  committedAt: string | null
  landedAt: string | null
  transaction: string | null
  position: string | null
  number: number
  /** The key before and after, where the row has moved; null: there was no such row, or it is not told. */
  keyBefore: string[] | null
  keyAfter: string[] | null
  /** Columns that have changed, or all where there is one side only. `told`: false where one of the sides is not known. */
  fields: { name: string; before: string | null; after: string | null; told: boolean }[]
}

/** The story of one row. */
export interface RowTrail {
  /** The lane keeps its changes. */
  kept: boolean
  /** The newest first. */
  changes: RowChange[]
  /** There were more. */
  cut: boolean
  held: Pick<HeldRecord, 'id' | 'heldAt' | 'column' | 'reason' | 'state' | 'closedAt' | 'note'>[]
}
