import type { LaneMoved } from '../pace/lane-reading.ts'

/** What has landed in a lane from a moment on. */
export interface LaneSpan extends LaneMoved {
  /** Its table at the source, and the tag of its origin; empty where there is one source. */
  table: string
  origin: string
  /** ISO 8601: the reading that it is counted from, which may be a little before what was asked for, or after. */
  since: string
}
