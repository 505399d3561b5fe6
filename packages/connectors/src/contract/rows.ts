/** Writing single rows of a database's tables, as apps let others write single records. */
import type { TableRights } from '@tide/core/app/table-object'
import type { Row } from '@tide/core/records/value'
import type { KeyedTable } from './records.ts'

/** `values`: by column, canonical text. Keys are of tables with a key of one column. */
export type RowOperation =
  | { op: 'create'; values: Record<string, string | null> }
  /** `isAsSeen`: whether the row, as it is under the lock, is what somebody has decided by. */
  | {
      op: 'change'
      key: string
      values: Record<string, string | null>
      isAsSeen?: (row: Row) => boolean
    }
  | { op: 'remove'; key: string }

/** `row`: as it was then, in the order of the table's columns; absent of one that is gone. */
export type RowAnswer =
  | { answer: 'done'; key: string; row?: Row }
  | { answer: 'changed' }
  | { answer: 'gone' }
  | { answer: 'refused'; field: string | null; reason: string }

export interface RowSide {
  /** What the account may do, by `datasetId`; none where that is not known. */
  rights(): Promise<Map<string, TableRights>>
  /** The type of a key that the database gives by itself. */
  ownKey: string
  /** Truth values are 1 and 0 in its tables. */
  truthIsNumber: boolean
  /** Makes a table by statements of its target side. */
  make(statements: readonly string[]): Promise<void>
  /**
   * All of it in one transaction, each operation by itself. What was told by the same `once` before is answered as it was then, and not
   * done again: the answers are kept in the database for some weeks.
   */
  write(table: KeyedTable, operations: readonly RowOperation[], once: string): Promise<RowAnswer[]>
}
