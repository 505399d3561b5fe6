/** How many rows went lately: deletions within this time count together, however many landings or passes they come in. */
const TOGETHER_MS = 10 * 60_000

export class LostLately<Where> {
  /** Milliseconds since 1970. */
  private readonly now: () => number
  private readonly lost = new Map<Where, { at: number; rows: number; of: number }[]>()

  constructor(now: () => number) {
    this.now = now
  }

  /** `of`: how many there were before the first of them; 0: none has gone. */
  lately(where: Where): { rows: number; of: number } {
    const since = this.now() - TOGETHER_MS
    const lately = (this.lost.get(where) ?? []).filter(({ at }) => at > since)
    this.lost.set(where, lately)
    return { rows: lately.reduce((sum, one) => sum + one.rows, 0), of: lately[0]?.of ?? 0 }
  }

  /** `of`: how many there were before. */
  add(where: Where, rows: number, of: number): void {
    if (rows > 0) this.lost.set(where, [...(this.lost.get(where) ?? []), { at: this.now(), rows, of }])
  }
}
