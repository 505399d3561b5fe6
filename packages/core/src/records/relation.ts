import type { DatasetName } from './dataset.ts'

/** A table as a source's log describes it: the columns of its rows, in order. */
export interface LoggedRelation {
  id: number
  dataset: DatasetName
  columns: { name: string; nativeType: string }[]
}
