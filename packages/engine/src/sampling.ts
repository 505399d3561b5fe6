/** Takes a reading of every pipeline each second, and keeps them at falling resolution. */
import type { TideSample } from '@tide/core/pace/tide'
import { STRIP_MINUTES, type Kept } from './kept.ts'
import { readLanes } from './lane-figures.ts'
import type { EngineParts } from './parts.ts'

const SAMPLE_MS = 1_000

type Parts = Pick<EngineParts, 'history' | 'surroundings'>

/** Until the signal aborts; `taken` is called after each reading. */
export async function sampleUntil(
  signal: AbortSignal,
  kept: ReadonlyMap<string, Kept>,
  parts: Parts,
  taken: () => void,
): Promise<void> {
  const { now, sleep } = parts.surroundings
  let minute = Math.floor(now() / 60_000)
  while (!signal.aborted) {
    await sleep(SAMPLE_MS - (now() % SAMPLE_MS), signal)
    const seconds: ({ pipeline: string } & TideSample)[] = []
    for (const [pipeline, one] of kept) {
      const sample = one.runner?.sample()
      if (!sample) continue
      one.sample = sample
      one.minutes = withMinute(one.minutes, sample)
      seconds.push({ pipeline, ...sample })
    }
    for (const { runner } of kept.values()) void runner?.runs.tell()
    taken()
    // Figures are for show: when the store cannot take them, the pipelines go on.
    await parts.history.addFigures(1, seconds).catch(() => {})
    await readLanes(now(), undefined, kept, parts.history).catch(() => {})
    if (Math.floor(now() / 60_000) === minute) continue
    const over = minute * 60_000
    minute = Math.floor(now() / 60_000)
    await writeMinute(over, kept, parts).catch(() => {})
    await readLanes(now(), minute % 60 === 0 ? 'hour' : 'minute', kept, parts.history).catch(() => {})
  }
}

async function writeMinute(
  at: number,
  kept: ReadonlyMap<string, Kept>,
  { history, surroundings }: Parts,
): Promise<void> {
  const rows = [...kept].flatMap(([pipeline, { minutes }]) => {
    const reading = minutes.find(sample => sample.at === at)
    return reading ? [{ pipeline, ...reading }] : []
  })
  await history.addFigures(60, rows)
  await history.trimFigures(surroundings.now())
}

/** Folds a reading into its minute: the newest totals, the greatest lag. */
function withMinute(minutes: readonly TideSample[], sample: TideSample): TideSample[] {
  const at = Math.floor(sample.at / 60_000) * 60_000
  const last = minutes.at(-1)
  if (last?.at !== at) return [...minutes.slice(-STRIP_MINUTES), { ...sample, at }]
  const lag = last.lag === null ? sample.lag : sample.lag === null ? last.lag : Math.max(last.lag, sample.lag)
  return [...minutes.slice(0, -1), { ...sample, at, lag }]
}
