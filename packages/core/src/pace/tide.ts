/** One reading of the cumulative lines of a pipeline. */
export interface TideSample {
  /** Milliseconds since 1970. */
  at: number
  /** Changes in scope committed at the source since the pipeline began. */
  committed: number
  /** Of these, landed at the target. */
  landed: number
  /** Rows copied, as far as they have landed. */
  copied: number
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
