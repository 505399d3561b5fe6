import { and, asc, eq, isNull, lt, or, sql } from 'drizzle-orm'
import type { Doing, KeptSchedule, Schedule } from '@tide/core/definition/schedule'
import type { Database } from './database.ts'
import { schedule } from './schema.ts'

/** What is done with pipelines at set times. Several processes may look at once; one of them takes each time. */
export class Schedules {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  async list(pipeline?: string): Promise<KeptSchedule[]> {
    const rows = await this.db
      .select()
      .from(schedule)
      .where(pipeline === undefined ? undefined : eq(schedule.pipeline, pipeline))
      .orderBy(asc(schedule.createdAt), asc(schedule.id))
    const iso = (text: string) => new Date(text).toISOString()
    return rows.map(row => ({
      ...row,
      createdAt: iso(row.createdAt),
      lastTick: row.lastTick && iso(row.lastTick),
    }))
  }

  async create(id: string, pipeline: string, given: Schedule, createdAt: string): Promise<void> {
    await this.db.insert(schedule).values({ id, pipeline, ...given, createdAt })
  }

  /** What came before it was changed is not made up for. False when there is none. */
  async change(id: string, pipeline: string, given: Schedule, at: string): Promise<boolean> {
    const changed = await this.db
      .update(schedule)
      .set({ ...given, lastTick: at, doing: null, landed: null })
      .where(and(eq(schedule.id, id), eq(schedule.pipeline, pipeline)))
      .returning({ id: schedule.id })
    return changed.length > 0
  }

  async remove(id: string, pipeline: string): Promise<boolean> {
    const gone = await this.db
      .delete(schedule)
      .where(and(eq(schedule.id, id), eq(schedule.pipeline, pipeline)))
      .returning({ id: schedule.id })
    return gone.length > 0
  }

  /**
   * Takes a set time, to do something or to leave it; false when another process has taken it. `landed`: what had landed then.
   */
  async take(
    id: string,
    tick: string,
    doing: Doing | null,
    landed?: Record<string, string>,
  ): Promise<boolean> {
    const taken = await this.db
      .update(schedule)
      .set({ lastTick: tick, doing, ...(landed ? { landed } : {}) })
      .where(and(eq(schedule.id, id), or(isNull(schedule.lastTick), lt(schedule.lastTick, tick))))
      .returning({ id: schedule.id })
    return taken.length > 0
  }

  /** How far it is with what is done for a set time. */
  async going(id: string, doing: Doing): Promise<void> {
    await this.db
      .update(schedule)
      .set({ doing })
      .where(and(eq(schedule.id, id), sql`${schedule.doing}->>'tick' = ${doing.tick}`))
  }

  async end(id: string, outcome: NonNullable<KeptSchedule['outcome']>): Promise<void> {
    await this.db.update(schedule).set({ doing: null, outcome }).where(eq(schedule.id, id))
  }
}
