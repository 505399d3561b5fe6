/** A record of a file that others have written, whatever the file's format. */
export interface FileRecord {
  /** The first line is 1. */
  line: number
  /** What its values are called. */
  names: readonly string[]
  values: readonly (string | null)[]
  /** Why it could not be read, or null. */
  problem: string | null
}
