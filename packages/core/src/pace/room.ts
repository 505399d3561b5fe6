/** How long a journal can go on growing while somebody needs all of it. */

export interface JournalRoom {
  bytes: number
  /** Beyond so many bytes even what is needed goes; 0: never. */
  hardBytes: number
  diskFree: number
  bytesPerHour: number | null
}

export interface RoomLeft {
  hours: number
  /** `limit`: those who are behind must then begin anew. `disk`: the source keeps its log until there is room. */
  then: 'limit' | 'disk'
}

/** What ends the room first, and in how many hours at the present rate; null where that is not known or it does not grow. */
export function roomLeft({ bytes, hardBytes, diskFree, bytesPerHour }: JournalRoom): RoomLeft | null {
  if (bytesPerHour === null || bytesPerHour <= 0) return null
  const limit = hardBytes > 0 ? Math.max(0, hardBytes - bytes) : Infinity
  return { hours: Math.min(limit, diskFree) / bytesPerHour, then: limit <= diskFree ? 'limit' : 'disk' }
}
