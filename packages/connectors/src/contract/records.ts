import type { Condition } from '@tide/core/scope/condition'
import type { Column } from '@tide/core/records/column'
import type { DatasetName } from '@tide/core/records/dataset'
import type { Key } from '@tide/core/records/value'

/** A table as its rows must be read. */
export interface KeyedTable {
  dataset: DatasetName
  columns: readonly Pick<Column, 'name' | 'type' | 'nativeType'>[]
  /** Column names, in key order. */
  key: readonly string[]
  /** A copy need not bring rows for which this is not true; it may. */
  where?: Condition
  /** Only rows that have these values, or null, in these columns. */
  only?: readonly { column: string; is: string | null }[]
}

/** A table whose rows are read in no order. */
export type ScannedTable = Omit<KeyedTable, 'key' | 'only'>

/** How a part of a key is put in order: as its numbers are, or by the bytes of its canonical text. */
export type KeyOrder = 'number' | 'text'

/** A table whose rows are read in the order of its key, which is then the same at every system. */
export interface OrderedTable extends KeyedTable {
  /** Of each part of the key. */
  order: readonly KeyOrder[]
  /** Of each column: its values come in quotes; those of the others need none. */
  quoted: readonly boolean[]
  /** Only rows behind this key in that order. */
  after?: Key
  /** Only rows up to this key. */
  upTo?: Key
  /** The first so many. */
  most?: number
}
