import type { Pool } from 'pg'
import { PEOPLE, REMARKS } from './nursery.sql.ts'
import { Random } from './random.ts'

export type Pace = 'off' | 'gentle' | 'brisk'

/** Steps a second; a step is one transaction of one to a few rows. */
const STEPS_PER_SECOND: Record<Pace, number> = { off: 0, gentle: 1.5, brisk: 20 }

const quote = (text: string) => `'${text.replaceAll("'", "''")}'`

/** Works a site's database as its people and sensors would. */
export class Activity {
  private readonly db: Pool
  private readonly random: Random
  private timer: NodeJS.Timeout | undefined
  private busy = Promise.resolve()
  pace: Pace = 'off'
  /** Transactions made so far. */
  made = 0

  constructor(db: Pool, seed: number) {
    this.db = db
    this.random = new Random(seed)
  }

  set(pace: Pace): void {
    this.pace = pace
    clearTimeout(this.timer)
    if (pace !== 'off') this.schedule()
  }

  /** `n` transactions as fast as they go; returns when they are made. */
  async burst(n: number): Promise<void> {
    for (let i = 0; i < n; i++) {
      await this.step()
      if (i % 20 === 19) await new Promise(resolve => setImmediate(resolve)) // let clients have their turn
    }
  }

  /** Stops and waits for the step under way. */
  async stop(): Promise<void> {
    this.set('off')
    await this.busy
  }

  private schedule(): void {
    const wait = (1000 / STEPS_PER_SECOND[this.pace]) * (0.5 + this.random.next())
    this.timer = setTimeout(() => {
      this.busy = this.step().catch(() => {}) // the table may be locked or edited by hand; the next step is another
      this.schedule()
    }, wait)
  }

  private async step(): Promise<void> {
    await this.db.query(this.statement())
    this.made++
  }

  private statement(): string {
    const { random } = this
    const roll = random.next()
    if (roll < 0.5) {
      const rows = random.int(1, 6)
      return `INSERT INTO nursery.readings
        SELECT (SELECT max(reading_id) FROM nursery.readings) + i, ${random.int(1, 120)}, clock_timestamp(),
               ${(12 + random.next() * 14).toFixed(2)}, ${(20 + random.next() * 60).toFixed(2)}, ${random.int(0, 900)}, 'S' || (100 + i)
          FROM generate_series(1, ${rows}) i`
    }
    if (roll < 0.75) {
      return `UPDATE nursery.batches SET quantity = greatest(0, quantity - ${random.int(0, 3)}), losses = losses + 1, updated_at = now()
        WHERE batch_id = ${random.int(1, 6000)}`
    }
    if (roll < 0.87) {
      return `INSERT INTO nursery.inspections (inspection_id, batch_id, inspector, inspected_at, grade, vigour, remarks)
        SELECT max(inspection_id) + 1, ${random.int(1, 6000)}, ${quote(random.pick(PEOPLE))}, now(), 'B', ${random.next() * 10}, ${quote(random.pick(REMARKS))}
          FROM nursery.inspections`
    }
    if (roll < 0.94) {
      return `UPDATE nursery.dispatch_lines SET plants = plants + 1 WHERE dispatch_id = ${random.int(1, 9000)}`
    }
    return `DELETE FROM nursery.dispatch_lines WHERE dispatch_id = ${random.int(1, 9000)} AND line_no = 4`
  }
}
