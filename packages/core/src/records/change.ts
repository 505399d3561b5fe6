import type { PackedRow } from './tuple.ts'

/**
 * One change to one row, or to a whole table (truncate). `lane` is the index of the lane it belongs to, `number` its number
 * among all changes of its transaction, from 0 on, counted on across parts. Rows are whole unless a value was not sent
 * because unchanged. An update of which nothing is told of the row before has `before` equal to `after`.
 */
export type ChangeEvent = { lane: number; number: number } & (
  | { op: 'insert'; after: PackedRow }
  | { op: 'update'; before: PackedRow; after: PackedRow }
  | { op: 'delete'; before: PackedRow }
  | { op: 'truncate' }
)

/** What was committed together at the source, in order. */
export interface SourceTransaction {
  id: string
  /** The position it starts at: with an event's number, the place of that event in the stream. */
  start: string
  /** When it was committed, or its last statement ran, by the source's clock; ISO 8601. */
  at: string
  events: ChangeEvent[]
}
