/** What the two cumulative lines say as rates, and in words: keeping up, falling behind, or catching up. */
import type { TideSample } from './tide.ts'

/** A stretch of time; null where there are no readings of it. */
export interface FlowBin {
  /** Its middle, milliseconds since 1970. */
  at: number
  /** Changes a second. */
  committed: number | null
  landed: number | null
  /** Rows copied a second. */
  copied: number | null
  /** The most that was behind, in changes and in seconds. */
  behind: number | null
  lag: number | null
}

/** Readings further apart than this, or than two bins, have nothing known between them. */
const GAP_MS = 15_000

/** The time from `from` to `to` in so many bins of equal length. Rates are those of the readings that enclose a bin. */
export function flowBins(samples: readonly TideSample[], from: number, to: number, count: number): FlowBin[] {
  const width = (to - from) / count
  const gap = Math.max(GAP_MS, 2 * width)
  const bins: FlowBin[] = []
  let next = 0
  for (let i = 0; i < count; i++) {
    const [begin, end] = [from + i * width, from + (i + 1) * width]
    while (next < samples.length && samples[next]!.at < begin) next++
    let last = next
    while (last < samples.length && samples[last]!.at < end) last++
    const inside = samples.slice(next, last)
    // The reading before a bin belongs to what has changed in it, and so does one behind it where it has none.
    const [before, behind] = [samples[next - 1], samples[last]]
    const final = inside.at(-1) ?? behind
    const near = (one: TideSample | undefined) => one && final && final.at - one.at <= gap + width
    const first = near(before) ? before : inside[0]
    const known = first && final && final.at > first.at && near(first)
    const seconds = known ? (final.at - first.at) / 1000 : 1
    const lags = inside.flatMap(({ lag }) => lag ?? [])
    bins.push({
      at: begin + width / 2,
      committed: known ? Math.max(0, final.committed - first.committed) / seconds : null,
      landed: known ? Math.max(0, final.landed - first.landed) / seconds : null,
      copied: known ? Math.max(0, final.copied - first.copied) / seconds : null,
      behind:
        inside.length > 0 ? Math.max(...inside.map(({ committed, landed }) => committed - landed)) : null,
      lag: lags.length > 0 ? Math.max(...lags) : null,
    })
  }
  return bins
}

export type Going =
  | { going: 'unknown' }
  | { going: 'keeping up' }
  /** `perSecond`: by how many changes a second the backlog grows. */
  | { going: 'falling behind'; behind: number; perSecond: number }
  /** `seconds`: until it is even, at this rate. */
  | { going: 'catching up'; behind: number; perSecond: number; seconds: number }
  | { going: 'staying behind'; behind: number }

/** How long ago is looked at to see where it goes. */
const LATELY_MS = 20_000
/** So many seconds of changes, or so few of them, are on their way and not behind. */
const ON_THE_WAY_S = 2
const FEW = 20
/** A backlog that changes by less than this share of what is committed stays as it is. */
const STILL = 0.03

/** Where it goes, by the newest readings. */
export function going(samples: readonly TideSample[]): Going {
  const last = samples.at(-1)
  const first = last && samples.find(({ at }) => at >= last.at - LATELY_MS)
  if (!first || last.at - first.at < LATELY_MS / 4) return { going: 'unknown' }
  const seconds = (last.at - first.at) / 1000
  const behind = last.committed - last.landed
  const committed = (last.committed - first.committed) / seconds
  if (behind <= Math.max(FEW, committed * ON_THE_WAY_S)) return { going: 'keeping up' }
  const grows = (behind - (first.committed - first.landed)) / seconds
  if (grows > Math.max(1, committed * STILL)) return { going: 'falling behind', behind, perSecond: grows }
  if (grows < -Math.max(1, committed * STILL))
    return { going: 'catching up', behind, perSecond: -grows, seconds: behind / -grows }
  return { going: 'staying behind', behind }
}
