/** What pipelines did, and how fast they copied. */
import { and, desc, eq, gte, inArray, isNotNull, isNull, lt, or, sql } from 'drizzle-orm'
import type { RunKind, RunRecord } from '@tide/core/definition/run'
import type { Database } from './database.ts'
import { pipeline, run } from './schema.ts'

/** Runs are kept for as long as what the log says besides. */
const KEEP_MS = 400 * 86_400_000

/** What runs are asked for. */
export interface RunQuery {
  /** With its origins. */
  pipeline?: string
  kinds?: readonly RunKind[]
  /** ISO 8601: those that had not ended before. */
  since?: string
}

export class Runs {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  /** Begins a run, or tells how it stands. */
  async put({ id, ...record }: RunRecord): Promise<void> {
    const told = { ...record, toldAt: sql`now()` }
    await this.db
      .insert(run)
      .values({ id, ...told })
      .onConflictDoUpdate({ target: run.id, set: told })
  }

  /** Whoever did what is still going is gone: it ended when its figures were told last. */
  async cutOff(id: string): Promise<void> {
    await this.db
      .update(run)
      .set({ state: 'cut off', endedAt: sql`${run.toldAt}` })
      .where(and(eq(run.pipeline, id), isNull(run.endedAt)))
  }

  /** The newest first; of a pipeline with the tag of the origin. */
  async list(
    { pipeline: of, kinds, since }: RunQuery,
    limit: number,
  ): Promise<(RunRecord & { origin: string; of: string })[]> {
    const { id, kind, state, from, to, startedAt, endedAt, rows, bytes } = run
    const { reads, writes, retries, held, lanes, note } = run
    const found = await this.db
      .select({
        ...{ id, kind, state, from, to, startedAt, endedAt, rows, bytes },
        ...{ reads, writes, retries, held, lanes, note },
        pipeline: run.pipeline,
        origin: pipeline.origin,
        of: sql<string>`coalesce(${pipeline.of}, ${pipeline.id})`,
      })
      .from(run)
      .innerJoin(pipeline, eq(pipeline.id, run.pipeline))
      .where(
        and(
          ...(of ? [or(eq(pipeline.id, of), eq(pipeline.of, of))] : []),
          ...(kinds ? [inArray(kind, [...kinds])] : []),
          ...(since ? [or(isNull(endedAt), gte(endedAt, since))] : []),
        ),
      )
      .orderBy(desc(startedAt), desc(id))
      .limit(limit)
    const iso = (text: string) => new Date(text).toISOString()
    return found.map(row => ({
      ...row,
      startedAt: iso(row.startedAt),
      endedAt: row.endedAt && iso(row.endedAt),
    }))
  }

  async trim(now: number): Promise<void> {
    await this.db.delete(run).where(lt(run.endedAt, new Date(now - KEEP_MS).toISOString()))
  }

  /** Rows a second of the last finished copy between the two, if there was one worth measuring by. */
  async lastCopyRate(from: string, to: string): Promise<number | null> {
    const [row] = await this.db
      .select({
        rows: run.rows,
        seconds: sql<number>`extract(epoch from (${run.endedAt} - ${run.startedAt}))::float8`,
      })
      .from(run)
      .where(
        and(
          eq(run.kind, 'copy'),
          eq(run.state, 'done'),
          eq(run.from, from),
          eq(run.to, to),
          isNotNull(run.endedAt),
          gte(run.rows, 1000),
        ),
      )
      .orderBy(desc(run.startedAt))
      .limit(1)
    return row && row.seconds > 0 ? row.rows / row.seconds : null
  }
}
