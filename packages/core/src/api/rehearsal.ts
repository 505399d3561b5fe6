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
