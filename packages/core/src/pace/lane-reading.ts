/** What has landed in a lane since it began, at one moment. */
export interface LaneReading {
  /** Its table at the source. */
  table: string
  /** Milliseconds since 1970. */
  at: number
  inserted: number
  updated: number
  deleted: number
  truncated: number
  /** Of the rows as the source told them. */
  bytes: number
}

const COUNTED = ['inserted', 'updated', 'deleted', 'truncated', 'bytes'] as const

export type LaneMoved = Pick<LaneReading, (typeof COUNTED)[number]>

/**
 * What landed between the first and the last of a lane's readings, which are in the order of time. One that is less than the one
 * before has begun anew.
 */
export function movedBetween(readings: readonly LaneReading[]): LaneMoved {
  const moved: LaneMoved = { inserted: 0, updated: 0, deleted: 0, truncated: 0, bytes: 0 }
  for (let i = 1; i < readings.length; i++) {
    const [before, now] = [readings[i - 1]!, readings[i]!]
    const anew = COUNTED.some(name => now[name] < before[name])
    for (const name of COUNTED) moved[name] += anew ? now[name] : now[name] - before[name]
  }
  return moved
}
