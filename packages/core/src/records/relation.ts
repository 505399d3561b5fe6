import type { DatasetName } from './dataset.ts'

/** Stands for the type of columns that a statement has altered, when the log tells no more of them. */
export const ALTERED = 'altered'

/** A table as a source's log describes it: the columns of its rows, in order. */
export interface LoggedRelation {
  id: number
  dataset: DatasetName
  columns: { name: string; nativeType: string }[]
  /** By which columns it tells which row was changed or deleted; absent where its rows are told whole. */
  identity?: string[]
}
