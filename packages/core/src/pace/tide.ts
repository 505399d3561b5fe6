/** One reading of the two cumulative lines of a pipeline. */
export interface TideSample {
  /** Milliseconds since 1970. */
  at: number
  /** Changes in scope committed at the source since the pipeline began. */
  committed: number
  /** Of these, landed at the target. */
  landed: number
  /** The greatest lag seen since the reading before, in seconds; `null` when unknown. */
  lag: number | null
}

/** The two gaps at one moment: how many changes behind, and how long ago the source was where the target is now. */
export interface Gaps {
  changes: number
  seconds: number | null
}

/** Reads both gaps at `samples[index]`; the horizontal one by interpolation along the committed line. */
export function readGaps(samples: readonly TideSample[], index: number): Gaps {
  const here = samples[index]!
  const changes = here.committed - here.landed
  if (changes <= 0) return { changes: 0, seconds: 0 }
  for (let i = index; i > 0; i--) {
    const [earlier, later] = [samples[i - 1]!, samples[i]!]
    if (earlier.committed > here.landed) continue
    const share = (here.landed - earlier.committed) / (later.committed - earlier.committed || 1)
    return { changes, seconds: (here.at - (earlier.at + share * (later.at - earlier.at))) / 1000 }
  }
  return { changes, seconds: null }
}

/** Into so many parts the samples are cut to find what rate is usual. */
const PARTS = 12

/**
 * Changes a second that are usual over the samples: the median rate of the committed line over equal parts of the
 * time, so that a burst or a standstill does not bend it.
 */
export function commonSlope(samples: readonly TideSample[]): number {
  const rates: number[] = []
  const step = Math.max(1, Math.floor((samples.length - 1) / PARTS))
  for (let i = step; i < samples.length; i += step) {
    const [from, to] = [samples[i - step]!, samples[i]!]
    if (to.at > from.at) rates.push((to.committed - from.committed) / ((to.at - from.at) / 1000))
  }
  rates.sort((a, b) => a - b)
  const middle = rates.length >> 1
  return rates.length % 2 === 1 ? rates[middle]! : ((rates[middle - 1] ?? 0) + (rates[middle] ?? 0)) / 2
}

/** The greatest lag in each minute of the last `minutes`, oldest first; `null` where nothing is known. */
export function depthStrip(samples: readonly TideSample[], now: number, minutes: number): (number | null)[] {
  const strip = new Array<number | null>(minutes).fill(null)
  const end = Math.floor(now / 60_000)
  for (const { at, lag } of samples) {
    const slot = minutes - 1 - (end - Math.floor(at / 60_000))
    if (lag === null || slot < 0 || slot >= minutes) continue
    strip[slot] = Math.max(strip[slot] ?? 0, lag)
  }
  return strip
}
