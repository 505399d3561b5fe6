import { and, asc, eq, inArray, isNull, sql } from 'drizzle-orm'
import { CHANGEABLE, type Definition, type PipelineState } from '@tide/core/definition/definition'
import type { PipelineRecord, StartedPlan, StopReason, Affinity } from '@tide/core/definition/pipeline'
import type { Lane } from '@tide/core/plan/lane'
import type { PrepareStep } from '@tide/core/plan/steps'
import type { Database } from './database.ts'
import { errand, pipeline } from './schema.ts'

export class Pipelines {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  list(): Promise<PipelineRecord[]> {
    return this.db.select().from(pipeline).orderBy(asc(pipeline.createdAt))
  }

  async get(id: string): Promise<PipelineRecord | undefined> {
    const [row] = await this.db.select().from(pipeline).where(eq(pipeline.id, id))
    return row
  }

  async create(id: string, definition: Definition): Promise<void> {
    await this.db.insert(pipeline).values({ id, definition, state: 'Draft', wanted: 'pause' })
  }

  /**
   * False when it runs, and cannot be changed. Tables that were made in one target are not this pipeline's own in another:
   * with the target the plan is forgotten.
   */
  async setDefinition(id: string, definition: Definition): Promise<boolean> {
    const moved = sql`${pipeline.definition}->>'to' IS DISTINCT FROM ${definition.to}`
    const set = await this.db
      .update(pipeline)
      .set({
        definition,
        lanes: sql`CASE WHEN ${moved} THEN '[]'::jsonb ELSE ${pipeline.lanes} END`,
        steps: sql`CASE WHEN ${moved} THEN '[]'::jsonb ELSE ${pipeline.steps} END`,
      })
      .where(and(eq(pipeline.id, id), inArray(pipeline.state, [...CHANGEABLE])))
      .returning({ id: pipeline.id })
    return set.length > 0
  }

  /** From here on everything at the target that is older than the next epoch belongs to an earlier start. */
  async start(
    id: string,
    { definition, lanes, steps }: StartedPlan,
    startedAt: string,
    affinity: Affinity | null,
  ): Promise<boolean> {
    const started = await this.db
      .update(pipeline)
      .set({
        lanes,
        steps,
        startedAt,
        wanted: 'run',
        state: 'Copying',
        reason: null,
        home: affinity?.home ?? null,
        affinity: affinity?.affinity ?? null,
        freshFrom: sql`${pipeline.epoch} + 1`,
      })
      .where(
        and(
          eq(pipeline.id, id),
          inArray(pipeline.state, [...CHANGEABLE]),
          sql`${pipeline.definition} = ${JSON.stringify(definition)}::jsonb`,
        ),
      )
      .returning({ id: pipeline.id })
    if (started.length === 0) return false
    // What was asked of it before means nothing to what is copied anew.
    await this.db.delete(errand).where(and(eq(errand.pipeline, id), isNull(errand.endedAt)))
    return true
  }

  /** It can only be run where this data folder is, from now on. */
  async bind(id: string, { home, affinity }: Affinity): Promise<void> {
    await this.db.update(pipeline).set({ home, affinity }).where(eq(pipeline.id, id))
  }

  /** More lanes for a pipeline that runs; whoever runs it takes them up. */
  async addLanes(
    id: string,
    definition: Definition,
    { lanes, steps }: { lanes: readonly Lane[]; steps: readonly PrepareStep[] },
  ): Promise<void> {
    await this.db
      .update(pipeline)
      .set({
        definition,
        lanes: sql`${pipeline.lanes} || ${JSON.stringify(lanes)}::jsonb`,
        steps: sql`${pipeline.steps} || ${JSON.stringify(steps)}::jsonb`,
      })
      .where(eq(pipeline.id, id))
  }

  async want(id: string, wanted: PipelineRecord['wanted']): Promise<void> {
    await this.db.update(pipeline).set({ wanted }).where(eq(pipeline.id, id))
  }

  /** A pipeline that had stopped for a reason is taken up again, to run or to be stopped for good. */
  async takeUp(id: string, wanted: 'run' | 'stop'): Promise<void> {
    // Whoever runs it finds out whether the copy was complete.
    const state = wanted === 'run' ? { state: 'Copying' as const } : {}
    await this.db
      .update(pipeline)
      .set({ wanted, reason: null, ...state })
      .where(eq(pipeline.id, id))
  }

  /** By the engine that runs it; false when it is another one by now. */
  async setState(
    id: string,
    holder: string,
    state: PipelineState,
    reason: StopReason | null,
  ): Promise<boolean> {
    const set = await this.db
      .update(pipeline)
      .set({ state, reason })
      .where(and(eq(pipeline.id, id), eq(pipeline.holder, holder)))
      .returning({ id: pipeline.id })
    return set.length > 0
  }

  /** A new epoch: whoever wrote under an older one cannot write any more. `undefined` when another engine has it. */
  async takeEpoch(id: string, holder: string): Promise<number | undefined> {
    const [row] = await this.db
      .update(pipeline)
      .set({ epoch: sql`${pipeline.epoch} + 1` })
      .where(and(eq(pipeline.id, id), eq(pipeline.holder, holder)))
      .returning({ epoch: pipeline.epoch })
    return row?.epoch
  }

  async remove(id: string): Promise<void> {
    await this.db.delete(pipeline).where(eq(pipeline.id, id))
  }
}
