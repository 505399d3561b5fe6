import { and, asc, desc, eq, gte, isNotNull, lt, or, sql } from 'drizzle-orm'
import type { CopyRun } from '@tide/core/api/runs'
import type { LogEntry, LogLine } from '@tide/core/definition/pipeline'
import type { TideSample } from '@tide/core/pace/tide'
import type { Database } from './database.ts'
import { figure, logEntry, pipeline, run } from './schema.ts'

/** Readings each second are kept for two hours, readings each minute for forty days. */
const KEEP: { resolution: number; seconds: number }[] = [
  { resolution: 1, seconds: 2 * 3600 },
  { resolution: 60, seconds: 40 * 86_400 },
]

/** What happened and how fast it went. */
export class History {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  async log(entry: LogEntry): Promise<void> {
    await this.db.insert(logEntry).values(entry)
  }

  /** Newest first; `before` is the id to go on from. */
  lines(options: { pipeline?: string; before?: number; limit: number }): Promise<LogLine[]> {
    const { id, at, level, message, remedy, byPerson } = logEntry
    const conditions = [
      ...(options.pipeline
        ? [or(eq(logEntry.pipeline, options.pipeline), eq(pipeline.of, options.pipeline))]
        : []),
      ...(options.before ? [lt(logEntry.id, options.before)] : []),
    ]
    // What origins say is said of their pipeline.
    const about = sql<string | null>`coalesce(${pipeline.of}, ${logEntry.pipeline})`
    return this.db
      .select({ id, at, level, message, remedy, byPerson, pipeline: about })
      .from(logEntry)
      .leftJoin(pipeline, eq(pipeline.id, logEntry.pipeline))
      .where(and(...conditions))
      .orderBy(desc(logEntry.id))
      .limit(options.limit)
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
