/** Asks before most of a table's rows go: somebody may have emptied it by mistake. */
import { Failure } from '../failure.ts'
import { LostLately } from './lost-lately.ts'

/** Tables of fewer rows are not guarded. */
const LEAST_ROWS = 100
/** Where nothing else is said. */
export const GUARDED_PERCENT = 50

/** What a landing would take from a lane. */
export interface Loss {
  lane: number
  table: string
  /** Rows fewer than before. */
  rows: number
  /** Rows there are now; null: not known. */
  there: number | null
}

export class DeletionGuard {
  private readonly percent: number
  /** By lane. */
  private readonly lost: LostLately<number>
  private allowed = false

  /** `percent`: of a table's rows; 100: nothing is asked. `now`: milliseconds since 1970. */
  constructor(percent: number, now: () => number) {
    this.percent = percent
    this.lost = new LostLately(now)
  }

  /** What comes next may delete as much as it does. */
  allow(): void {
    this.allowed = true
  }

  /** Throws a Failure where too many rows of a lane would go. */
  refuse(losses: readonly Loss[]): void {
    if (this.allowed || this.percent >= 100) return
    for (const { lane, table, rows, there } of losses) {
      if (there === null || rows <= 0) continue
      const lately = this.lost.lately(lane)
      // The count may be of a moment ago.
      const of = Math.max(there, lately.of)
      const gone = lately.rows + rows
      if (of < LEAST_ROWS || gone * 100 <= of * this.percent) continue
      const [goneSaid, ofSaid] = [gone, of].map(n => n.toLocaleString('en'))
      throw new Failure(
        'guard',
        `${goneSaid} of the ${ofSaid} rows of ${table} are to be deleted, as they were at the source; that is more than ${this.percent} %.`,
        'Look at the source. Let the rows go, or rewind to behind that transaction to leave it out; until then nothing lands.',
      )
    }
  }

  /** Has landed. */
  landed(losses: readonly Loss[]): void {
    this.allowed = false
    for (const { lane, rows, there } of losses) if (there !== null) this.lost.add(lane, rows, there)
  }
}
