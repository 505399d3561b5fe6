/** Readings of what has landed in each lane, once a minute and once an hour, so that any span of time can be told. */
import type { LaneStatus } from '@tide/core/api/pipelines'
import type { LaneReading } from '@tide/core/pace/lane-reading'
import { printName } from '@tide/core/records/dataset'
import type { Kept } from './kept.ts'
import type { HistoryRepository } from './repositories.ts'

const [MINUTE, HOUR] = [60, 3600]

/**
 * `over`: what is over, a minute or an hour with it; otherwise only what was never read is read, for others to be counted from.
 * Nothing is kept of lanes in which nothing has landed since.
 */
export async function readLanes(
  at: number,
  over: 'minute' | 'hour' | undefined,
  kept: ReadonlyMap<string, Kept>,
  history: Pick<HistoryRepository, 'addLaneFigures'>,
): Promise<void> {
  const readings: (LaneReading & { pipeline: string; resolution: number })[] = []
  for (const [pipeline, one] of kept) {
    const begins = one.lanesTold.size === 0
    if (!one.sample || !one.runner || (!begins && over === undefined)) continue
    for (const reading of one.runner.status.lanes.map(lane => readingOf(lane, at))) {
      const said = JSON.stringify({ ...reading, at: 0 })
      for (const resolution of begins || over === 'hour' ? [MINUTE, HOUR] : [MINUTE]) {
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
