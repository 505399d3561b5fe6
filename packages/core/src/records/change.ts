import type { Row } from './value.ts'

/**
 * One change to one row, or to a whole table (truncate). `lane` is the index of the lane it belongs to.
 * Rows are whole unless a value is `undefined` (not sent because unchanged).
 */
export type ChangeEvent =
  | { op: 'insert'; lane: number; after: Row }
  | { op: 'update'; lane: number; before: Row; after: Row }
  | { op: 'delete'; lane: number; before: Row }
  | { op: 'truncate'; lane: number }

/** What was committed together at the source, in order. */
export interface SourceTransaction {
  id: string
  /** When it was committed, or its last statement ran, by the source's clock; ISO 8601. */
  at: string
  events: ChangeEvent[]
}
