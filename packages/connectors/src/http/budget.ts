/** What an app lets be asked of it: so many calls a minute and at once, shared by all who work with it in this process, who take turns. */

interface Limits {
  perMinute?: number
  concurrent?: number
}

const MINUTE_MS = 60_000
/** Of an app that says nothing. */
export const AT_ONCE = 4

export class Budget {
  readonly atOnce: number
  private readonly gapMs: number
  /** When the next call may begin. */
  private free = 0
  private running = 0
  /** By who asks, in the order in which they have their turns. */
  private readonly waiting = new Map<unknown, (() => void)[]>()

  constructor({ perMinute, concurrent = AT_ONCE }: Limits) {
    this.atOnce = concurrent
    this.gapMs = perMinute === undefined ? 0 : MINUTE_MS / perMinute
  }

  /**
   * Waits for a turn; whoever got one gives it back by what is returned. `who`: each has a turn before any has another, however many calls they wait
   * with.
   */
  async turn(signal: AbortSignal, who: unknown = undefined): Promise<() => void> {
    if (this.running >= this.atOnce) await this.queued(signal, who)
    else this.running++
    try {
      const now = performance.now()
      // What was not used is not saved up, so that no minute sees more than it may.
      const begins = Math.max(this.free, now)
      this.free = begins + this.gapMs
      await pause(begins - now, signal)
    } catch (thrown) {
      this.give()
      throw thrown
    }
    let given = false
    return () => {
      if (!given) this.give()
      given = true
    }
  }

  /** The app has said that it wants to be left alone for so long. */
  restFor(milliseconds: number): void {
    this.free = Math.max(this.free, performance.now() + milliseconds)
  }

  private queued(signal: AbortSignal, who: unknown): Promise<void> {
    return new Promise((resolve, reject) => {
      const go = () => {
        signal.removeEventListener('abort', leave)
        resolve()
      }
      const leave = () => {
        const own = this.waiting.get(who)!
        own.splice(own.indexOf(go), 1)
        if (own.length === 0) this.waiting.delete(who)
        reject(signal.reason as Error)
      }
      if (signal.aborted) return reject(signal.reason as Error)
      signal.addEventListener('abort', leave, { once: true })
      const own = this.waiting.get(who)
      if (own) own.push(go)
      else this.waiting.set(who, [go])
    })
  }

  private give(): void {
    const [first] = this.waiting
    if (!first) {
      this.running--
      return
    }
    const [who, own] = first
    const next = own.shift()!
    // Whoever waits with more stands behind the others again.
    this.waiting.delete(who)
    if (own.length > 0) this.waiting.set(who, own)
    next()
  }
}

export function pause(milliseconds: number, signal: AbortSignal): Promise<void> {
  if (signal.aborted) return Promise.reject(signal.reason as Error)
  if (milliseconds <= 0) return Promise.resolve()
  return new Promise((resolve, reject) => {
    const timer = setTimeout(() => {
      signal.removeEventListener('abort', leave)
      resolve()
    }, milliseconds)
    const leave = () => {
      clearTimeout(timer)
      reject(signal.reason as Error)
    }
    signal.addEventListener('abort', leave, { once: true })
  })
}
