/** A rate over the last few seconds, from counts handed in with their times (milliseconds). */
export class Rate {
  private readonly window: number
  private readonly began: number
  private counts: { at: number; count: number }[] = []

  /** `began`: since when counts are handed in; before the window is full, the rate is over the time since then. */
  constructor(windowMs: number, began: number) {
    this.window = windowMs
    this.began = began
  }

  add(at: number, count: number): void {
    this.trim(at)
    this.counts.push({ at, count })
  }

  /** A second; 0 when nothing was counted in the window. */
  perSecond(now: number): number {
    this.trim(now)
    const sum = this.counts.reduce((sum, { count }) => sum + count, 0)
    const over = Math.min(this.window, now - this.began)
    return over > 0 ? sum / (over / 1000) : 0
  }

  private trim(now: number): void {
    while (this.counts.length > 0 && this.counts[0]!.at <= now - this.window) this.counts.shift()
  }
}

/** Seconds left for `remaining` at `perSecond`, or `null` when nothing moves. */
export function secondsLeft(remaining: number, perSecond: number): number | null {
  if (remaining <= 0) return 0
  return perSecond > 0 ? remaining / perSecond : null
}
