import { and, asc, desc, eq, gt, gte, ilike, inArray, isNotNull, lt, ne, or, sql } from 'drizzle-orm'
import type { CopyRun } from '@tide/core/api/runs'
import { LOG_LEVELS, type LogEntry, type LogLine, type LogQuery } from '@tide/core/definition/log'
import type { TideSample } from '@tide/core/pace/tide'
import type { Database } from './database.ts'
import { figure, logEntry, pipeline, run } from './schema.ts'

/** Readings each second are kept for two hours, readings each minute for forty days. */
const KEEP: { resolution: number; seconds: number }[] = [
  { resolution: 1, seconds: 2 * 3600 },
  { resolution: 60, seconds: 40 * 86_400 },
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

  /** The copies of a pipeline and of its origins, the newest first. */
  runs(id: string, limit: number): Promise<CopyRun[]> {
    return this.db
      .select({
        startedAt: run.startedAt,
        endedAt: run.endedAt,
        rows: run.rows,
        bytes: run.bytes,
        origin: pipeline.origin,
      })
      .from(run)
      .innerJoin(pipeline, eq(pipeline.id, run.pipeline))
      .where(or(eq(pipeline.id, id), eq(pipeline.of, id)))
      .orderBy(desc(run.startedAt), desc(run.id))
      .limit(limit)
  }

  async addFigures(resolution: number, samples: ({ pipeline: string } & TideSample)[]): Promise<void> {
    if (samples.length === 0) return
    const rows = samples.map(({ at, ...rest }) => ({ ...rest, resolution, at: new Date(at).toISOString() }))
    await this.db.insert(figure).values(rows).onConflictDoNothing()
  }

  async figures(pipeline: string, resolution: number, since: number): Promise<TideSample[]> {
    const rows = await this.db
      .select()
      .from(figure)
      .where(
        and(
          eq(figure.pipeline, pipeline),
          eq(figure.resolution, resolution),
          gte(figure.at, new Date(since).toISOString()),
        ),
      )
      .orderBy(asc(figure.at))
    return rows.map(({ at, committed, landed, lag }) => ({ at: Date.parse(at), committed, landed, lag }))
  }

  async trimFigures(now: number): Promise<void> {
    for (const { resolution, seconds } of KEEP) {
      const oldest = new Date(now - seconds * 1000).toISOString()
      await this.db.delete(figure).where(and(eq(figure.resolution, resolution), lt(figure.at, oldest)))
    }
  }

  async beginRun(entry: {
    id: string
    pipeline: string
    from: string
    to: string
    startedAt: string
  }): Promise<void> {
    await this.db.insert(run).values(entry)
  }

  async endRun(id: string, end: { endedAt: string; rows: number; bytes: number }): Promise<void> {
    await this.db.update(run).set(end).where(eq(run.id, id))
  }

  /** Rows a second of the last finished copy between the two, if there was one worth measuring by. */
  async lastCopyRate(from: string, to: string): Promise<number | null> {
    const [row] = await this.db
      .select({
        rows: run.rows,
        seconds: sql<number>`extract(epoch from (${run.endedAt} - ${run.startedAt}))::float8`,
      })
      .from(run)
      .where(and(eq(run.from, from), eq(run.to, to), isNotNull(run.endedAt), gte(run.rows, 1000)))
      .orderBy(desc(run.startedAt))
      .limit(1)
    return row && row.seconds > 0 ? row.rows / row.seconds : null
  }
}
