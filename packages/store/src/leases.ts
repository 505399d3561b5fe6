import { and, eq, inArray, isNull, lt, or, sql } from 'drizzle-orm'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { EngineRecord, PipelineWork } from '@tide/core/definition/pipeline'
import type { Database } from './database.ts'
import { engine, liveStatus, pipeline } from './schema.ts'

/** For how long nobody else may run a pipeline after its engine was heard; all by the store's clock. */
const LEASE = sql`interval '8 seconds'`
/** Engines that were not seen for so long are forgotten, unless a pipeline is tied to their folder. */
const FORGOTTEN_AFTER = sql`interval '1 day'`

/** Who runs what. Several engines share one store. */
export class Leases {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  /** An engine begins on its data folder, which one process has at a time: whoever had it before is gone. */
  async begin(me: Pick<EngineRecord, 'id' | 'name' | 'home'>): Promise<void> {
    const before = await this.db.delete(engine).where(eq(engine.home, me.home)).returning({ id: engine.id })
    const ids = before.map(({ id }) => id)
    if (ids.length > 0)
      await this.db
        .update(pipeline)
        .set({ holder: null, leasedUntil: null })
        .where(inArray(pipeline.holder, ids))
    await this.beat(me)
  }

  /** Says that the engine is there, and extends its leases. */
  async beat({ id, name, home }: Pick<EngineRecord, 'id' | 'name' | 'home'>): Promise<void> {
    await this.db
      .insert(engine)
      .values({ id, name, home })
      .onConflictDoUpdate({ target: engine.id, set: { seenAt: sql`now()` } })
    await this.db
      .update(pipeline)
      .set({ leasedUntil: sql`now() + ${LEASE}` })
      .where(eq(pipeline.holder, id))
  }

  work(): Promise<PipelineWork[]> {
    const { id, state, wanted, holder, home, plan, leasedUntil, reason, detailedUntil } = pipeline
    return (
      this.db
        .select({
          id,
          state,
          wanted,
          holder,
          home,
          detailedUntil,
          errands: sql<
            string[]
          >`(SELECT coalesce(jsonb_agg(e.id ORDER BY e.asked_at, e.id), '[]') FROM errand e
          WHERE e.pipeline = "pipeline".id AND e.ended_at IS NULL)`,
          plan,
          hasReason: sql<boolean>`${reason} IS NOT NULL`,
          free: sql<boolean>`${holder} IS NULL OR ${leasedUntil} < now()`,
        })
        .from(pipeline)
        // Of a pipeline with several origins, these are what is run.
        .where(sql`NOT EXISTS (SELECT 1 FROM pipeline one WHERE one.of = "pipeline".id)`)
        .orderBy(pipeline.createdAt, pipeline.place)
    )
  }

  /** False when another engine was quicker. */
  async take(id: string, holder: string): Promise<boolean> {
    const taken = await this.db
      .update(pipeline)
      .set({ holder, leasedUntil: sql`now() + ${LEASE}` })
      .where(and(eq(pipeline.id, id), or(isNull(pipeline.holder), lt(pipeline.leasedUntil, sql`now()`))))
      .returning({ id: pipeline.id })
    return taken.length > 0
  }

  async release(ids: readonly string[], holder: string): Promise<void> {
    if (ids.length === 0) return
    await this.db
      .update(pipeline)
      .set({ holder: null, leasedUntil: null })
      .where(and(inArray(pipeline.id, [...ids]), eq(pipeline.holder, holder)))
  }

  /** An engine ends: its pipelines are free at once, and it is not counted any more. */
  async leave(id: string): Promise<void> {
    await this.db.update(pipeline).set({ holder: null, leasedUntil: null }).where(eq(pipeline.holder, id))
    await this.db
      .update(engine)
      .set({ seenAt: sql`now() - ${LEASE}` })
      .where(eq(engine.id, id))
  }

  /** All engines that are not forgotten. */
  engines(): Promise<EngineRecord[]> {
    const { id, name, home, startedAt, seenAt } = engine
    const live = sql<boolean>`${seenAt} > now() - ${LEASE}`
    return this.db.select({ id, name, home, startedAt, seenAt, live }).from(engine).orderBy(name, startedAt)
  }

  /** Forgets engines that have been gone for long and that no pipeline waits for. */
  async forgetGone(): Promise<void> {
    await this.db
      .delete(engine)
      .where(
        and(
          sql`${engine.seenAt} < now() - ${FORGOTTEN_AFTER}`,
          sql`${engine.home} NOT IN (SELECT home FROM pipeline WHERE home IS NOT NULL)`,
        ),
      )
  }

  /** Tells the other engines how this one's pipelines stand. */
  async tell(statuses: readonly PipelineStatus[]): Promise<void> {
    if (statuses.length === 0) return
    await this.db
      .insert(liveStatus)
      .values(statuses.map(status => ({ pipeline: status.id, status })))
      .onConflictDoUpdate({
        target: liveStatus.pipeline,
        set: { at: sql`now()`, status: sql`excluded.status` },
      })
  }

  /** What other engines told of these pipelines last; `fresh`: within the time of a lease. */
  told(ids: readonly string[]): Promise<{ status: PipelineStatus; fresh: boolean }[]> {
    return this.db
      .select({
        status: liveStatus.status,
        fresh: sql<boolean>`${liveStatus.at} > now() - ${LEASE}`,
      })
      .from(liveStatus)
      .where(inArray(liveStatus.pipeline, [...ids]))
  }
}
