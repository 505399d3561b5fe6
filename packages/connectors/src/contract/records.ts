import type { Condition } from '@tide/core/scope/condition'
import type { Column } from '@tide/core/records/column'
import type { DatasetName } from '@tide/core/records/dataset'

/** A table as its rows must be read. */
export interface KeyedTable {
  dataset: DatasetName
  columns: readonly Pick<Column, 'name' | 'type' | 'nativeType'>[]
  /** Column names, in key order. */
  key: readonly string[]
  /** A copy need not bring rows for which this is not true; it may. */
  where?: Condition
}

/** A table whose rows are read in no order. */
export type ScannedTable = Omit<KeyedTable, 'key'>
