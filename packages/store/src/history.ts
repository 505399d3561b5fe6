import { and, asc, desc, eq, gt, gte, ilike, inArray, lt, ne, or, sql } from 'drizzle-orm'
import { LOG_LEVELS, type LogEntry, type LogLine, type LogQuery } from '@tide/core/definition/log'
import type { LaneReading } from '@tide/core/pace/lane-reading'
import type { TideSample } from '@tide/core/pace/tide'
import type { Database } from './database.ts'
import { figure, laneFigure, logEntry, pipeline } from './schema.ts'

/** Readings each second are kept for two hours, readings each minute for forty days. */
const KEEP: { resolution: number; seconds: number }[] = [
  { resolution: 1, seconds: 2 * 3600 },
  { resolution: 60, seconds: 40 * 86_400 },
]

/** Of lanes, each minute's for two days, each hour's for forty. */
const KEEP_LANES: typeof KEEP = [
  { resolution: 60, seconds: 2 * 86_400 },
  { resolution: 3600, seconds: 40 * 86_400 },
]

/** Details are kept for a day, all else for four hundred. */
const KEEP_DETAILS_MS = 86_400_000
const KEEP_LOG_MS = 400 * 86_400_000

/** What happened and how fast it went. */
export class History {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  async log(...entries: LogEntry[]): Promise<void> {
    if (entries.length > 0) await this.db.insert(logEntry).values(entries)
  }

  /** Newest first, from before the line `before` on; with `after`, oldest first, from behind that line on. */
  lines(
    { pipeline: of, lane, level, text, since, until }: LogQuery,
    page: ({ before?: number } | { after: number }) & { limit: number },
  ): Promise<LogLine[]> {
    const { id, at, lanes, message, remedy, byPerson } = logEntry
    const after = 'after' in page ? page.after : undefined
    const before = 'before' in page ? page.before : undefined
    const pattern = text && `%${text.replace(/[\\%_]/g, '\\$&')}%`
    const conditions = [
      ...(of ? [or(eq(logEntry.pipeline, of), eq(pipeline.of, of))] : []),
      ...(lane ? [sql`${lane} = ANY (${lanes})`] : []),
      ...(level ? [inArray(logEntry.level, LOG_LEVELS.slice(LOG_LEVELS.indexOf(level)))] : []),
      ...(pattern ? [or(ilike(message, pattern), ilike(remedy, pattern))] : []),
      ...(since ? [gte(at, since)] : []),
      ...(until ? [lt(at, until)] : []),
      ...(before === undefined ? [] : [lt(id, before)]),
      ...(after === undefined ? [] : [gt(id, after)]),
    ]
    // What origins say is said of their pipeline.
    const about = sql<string | null>`coalesce(${pipeline.of}, ${logEntry.pipeline})`
    return this.db
      .select({ id, at, level: logEntry.level, lanes, message, remedy, byPerson, pipeline: about })
      .from(logEntry)
      .leftJoin(pipeline, eq(pipeline.id, logEntry.pipeline))
      .where(and(...conditions))
      .orderBy(after === undefined ? desc(id) : asc(id))
      .limit(page.limit)
  }

  async trimLog(now: number): Promise<void> {
    const before = (ms: number) => lt(logEntry.at, new Date(now - ms).toISOString())
    await this.db.delete(logEntry).where(and(eq(logEntry.level, 'detail'), before(KEEP_DETAILS_MS)))
    await this.db.delete(logEntry).where(and(ne(logEntry.level, 'detail'), before(KEEP_LOG_MS)))
  }

  async addFigures(resolution: number, samples: ({ pipeline: string } & TideSample)[]): Promise<void> {
    if (samples.length === 0) return
    const rows = samples.map(({ at, ...rest }) => ({ ...rest, resolution, at: new Date(at).toISOString() }))
    await this.db.insert(figure).values(rows).onConflictDoNothing()
  }

  /** From `since` on, before `until`; milliseconds since 1970. */
  async figures(
    pipeline: string,
    resolution: number,
    since: number,
    until = Infinity,
  ): Promise<TideSample[]> {
    const rows = await this.db
      .select()
      .from(figure)
      .where(
        and(
          eq(figure.pipeline, pipeline),
          eq(figure.resolution, resolution),
          gte(figure.at, new Date(since).toISOString()),
          ...(until < Infinity ? [lt(figure.at, new Date(until).toISOString())] : []),
        ),
      )
      .orderBy(asc(figure.at))
    return rows.map(({ at, committed, landed, copied, lag }) => ({
      at: Date.parse(at),
      committed,
      landed,
      copied,
      lag,
    }))
  }

  async addLaneFigures(readings: (LaneReading & { pipeline: string; resolution: number })[]): Promise<void> {
    if (readings.length === 0) return
    const rows = readings.map(({ at, ...rest }) => ({ ...rest, at: new Date(at).toISOString() }))
    await this.db.insert(laneFigure).values(rows).onConflictDoNothing()
  }

  /** By table, in the order of time: the last reading before `since`, and all from then on. */
  async laneFigures(of: string, resolution: number, since: number): Promise<Map<string, LaneReading[]>> {
    const from = new Date(since).toISOString()
    const rows = await this.db
      .select()
      .from(laneFigure)
      .where(
        and(
          eq(laneFigure.pipeline, of),
          eq(laneFigure.resolution, resolution),
          sql`${laneFigure.at} >= coalesce((SELECT max(before.at) FROM lane_figure before
            WHERE before.pipeline = ${of} AND before.resolution = ${resolution}
            AND before.table = ${laneFigure.table} AND before.at <= ${from}), '-infinity')`,
        ),
      )
      .orderBy(asc(laneFigure.at))
    const byTable = new Map<string, LaneReading[]>()
    for (const { table, at, inserted, updated, deleted, truncated, bytes } of rows) {
      const reading = { table, at: Date.parse(at), inserted, updated, deleted, truncated, bytes }
      const others = byTable.get(table)
      if (others) others.push(reading)
      else byTable.set(table, [reading])
    }
    return byTable
  }

  async trimFigures(now: number): Promise<void> {
    for (const { resolution, seconds } of KEEP) {
      const oldest = new Date(now - seconds * 1000).toISOString()
      await this.db.delete(figure).where(and(eq(figure.resolution, resolution), lt(figure.at, oldest)))
    }
    for (const { resolution, seconds } of KEEP_LANES) {
      const oldest = new Date(now - seconds * 1000).toISOString()
      // The last before stays: what has landed since is counted from there.
      const followed = sql`EXISTS (SELECT 1 FROM lane_figure later WHERE later.pipeline = ${laneFigure.pipeline}
        AND later.table = ${laneFigure.table} AND later.resolution = ${laneFigure.resolution}
        AND later.at > ${laneFigure.at} AND later.at < ${oldest})`
      await this.db
        .delete(laneFigure)
        .where(and(eq(laneFigure.resolution, resolution), lt(laneFigure.at, oldest), followed))
    }
  }
}
