/** A pipeline that reads a journal. */
export interface JournalFollower {
  pipeline: string
  name: string
  /** Up to where it needs nothing any more. */
  position: string
  bytesBehind: number
}

/** What a server says of a connection's journal: all, or who keeps it, or that there is none. */
export type JournalAnswer = JournalInfo | { keptBy: string } | null

/** A source's journal, for people. Times are the source's, ISO 8601. */
export interface JournalInfo {
  kind: string
  bytes: number
  segments: number
  start: { position: string; at: string | null }
  end: { position: string; at: string | null }
  /** Where the source's own log ended when it was last heard. */
  head: string | null
  /** The source's clock now; `null` when it has not been heard for a while. */
  heardAt: string | null
  completeUpTo: string | null
  retry: { attempt: number; message: string; remedy: string; nextAt: string } | null
  fault: { message: string; remedy: string } | null
  /** What the disk says when it does not take what is written. */
  diskTrouble: string | null
  retention: { hours: number; bytes: number; hardBytes: number } | null
  followers: JournalFollower[]
  /** How fast it grows; null where it is too young to say. */
  bytesPerHour: number | null
  /** What the disk that it lies on has room for. */
  diskFree: number
}
