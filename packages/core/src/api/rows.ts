/** One record as it stands on both sides of a lane, in canonical text. */
export interface RowPair {
  key: string[]
  fields: {
    name: string
    target: string
    inKey: boolean
    same: boolean
    source: string | null
    there: string | null
  }[]
  /** On which sides there is such a row. */
  atSource: boolean
  atTarget: boolean
}
