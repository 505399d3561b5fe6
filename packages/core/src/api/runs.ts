/** A copy of lanes, whole or cut off. */
export interface CopyRun {
  /** ISO 8601. */
  startedAt: string
  /** Null: it is under way, or was cut off; then a later one went on from there. */
  endedAt: string | null
  /** What it brought, known once it has ended. */
  rows: number
  bytes: number
  /** The tag of the origin; empty where there is one source. */
  origin: string
}
