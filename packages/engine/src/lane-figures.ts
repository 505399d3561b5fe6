/** Readings of what has landed in each lane, once a minute and once an hour, so that any span of time can be told. */
import type { LaneStatus } from '@tide/core/api/pipelines'
import type { LaneReading } from '@tide/core/pace/lane-reading'
import { printName } from '@tide/core/records/dataset'
import type { Kept } from './kept.ts'
import type { HistoryRepository } from './repositories.ts'

const [MINUTE, HOUR] = [60, 3600]

/** `hour`: an hour is over, too. Only lanes in which something has landed since are read, and all of them the first time. */
export async function readLanes(
  at: number,
  hour: boolean,
  kept: ReadonlyMap<string, Kept>,
  history: Pick<HistoryRepository, 'addLaneFigures'>,
): Promise<void> {
  const readings: (LaneReading & { pipeline: string; resolution: number })[] = []
  for (const [pipeline, one] of kept) {
    if (!one.runner?.sample()) continue
    for (const reading of one.runner.status.lanes.map(lane => readingOf(lane, at))) {
      const said = JSON.stringify({ ...reading, at: 0 })
      for (const resolution of hour ? [MINUTE, HOUR] : [MINUTE]) {
        const key = `${resolution} ${reading.table}`
        if (one.lanesTold.get(key) === said) continue
        one.lanesTold.set(key, said)
        readings.push({ ...reading, pipeline, resolution })
      }
    }
  }
  await history.addLaneFigures(readings)
}

export function readingOf(lane: LaneStatus, at: number): LaneReading {
  const { source, inserted, updated, deleted, truncated, bytes } = lane
  return { table: printName(source), at, inserted, updated, deleted, truncated, bytes }
}
