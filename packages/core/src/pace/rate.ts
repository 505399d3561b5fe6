/** A rate over the last few seconds, from counts handed in with their times (milliseconds). */
export class Rate {
  private readonly window: number
  private marks: { at: number; total: number }[] = []
  private total = 0

  constructor(windowMs: number) {
    this.window = windowMs
  }

  add(at: number, count: number): void {
    if (this.marks.length === 0) this.marks.push({ at, total: this.total })
    this.total += count
    this.marks.push({ at, total: this.total })
    this.trim(at)
  }

  /** A second; 0 before anything was counted. */
  perSecond(now: number): number {
    this.trim(now)
    const first = this.marks[0]
    if (!first || now <= first.at) return 0
    return (this.total - first.total) / ((now - first.at) / 1000)
  }

  private trim(now: number): void {
    while (this.marks.length > 1 && this.marks[1]!.at <= now - this.window) this.marks.shift()
    if (this.marks.length === 1 && this.marks[0]!.at < now - this.window) this.marks = []
  }
}

/** Seconds left for `remaining` at `perSecond`, or `null` when nothing moves. */
export function secondsLeft(remaining: number, perSecond: number): number | null {
  if (remaining <= 0) return 0
  return perSecond > 0 ? remaining / perSecond : null
}
