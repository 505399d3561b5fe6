/** A small seeded generator (mulberry32), so that a run can be repeated from its seed. */
export class Random {
  private state: number

  constructor(seed: number) {
    this.state = seed
  }

  next(): number {
    this.state = (this.state + 0x6d2b79f5) | 0
    let t = Math.imul(this.state ^ (this.state >>> 15), 1 | this.state)
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296
  }

  /** From 0 to below `n`. */
  below(n: number): number {
    return Math.floor(this.next() * n)
  }

  chance(share: number): boolean {
    return this.next() < share
  }

  pick<T>(items: readonly T[]): T {
    return items[this.below(items.length)]!
  }

  hex(length: number): string {
    let text = ''
    while (text.length < length) text += Math.floor(this.next() * 2 ** 32).toString(16)
    return text.slice(0, length)
  }
}
