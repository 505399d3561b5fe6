/** Colleagues who work in an app of their own accord: now and then one of them changes a record, makes one, or takes one away. */
import { NotTaken } from './not-taken.ts'
import type { Records } from './records.ts'

/** What one of them does; `random`: below 1. */
export type ColleagueDeed<Place = Records> = (place: Place, random: () => number) => void

const EVERY_MS = 20_000

export class Colleagues<Place = Records> {
  private readonly place: Place
  private readonly deeds: readonly ColleagueDeed<Place>[]
  private readonly random: () => number
  private timer: NodeJS.Timeout | undefined

  constructor(place: Place, deeds: readonly ColleagueDeed<Place>[], random: () => number = Math.random) {
    this.place = place
    this.deeds = deeds
    this.random = random
  }

  get work(): boolean {
    return this.timer !== undefined
  }

  set work(work: boolean) {
    clearInterval(this.timer)
    this.timer = work ? setInterval(() => this.once(), EVERY_MS) : undefined
    this.timer?.unref()
  }

  once(): void {
    const deed = anyOf(this.deeds, this.random)
    try {
      deed?.(this.place, this.random)
    } catch (thrown) {
      // The app refuses them things, too.
      if (!(thrown instanceof NotTaken)) throw thrown
    }
  }
}

/** undefined: there are none. */
export function anyOf<T>(some: readonly T[], random: () => number): T | undefined {
  return some[Math.floor(random() * some.length)]
}
