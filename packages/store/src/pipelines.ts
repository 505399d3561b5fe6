import { asc, eq, sql } from 'drizzle-orm'
import type { Definition, PipelineState } from '@tide/core/definition/definition'
import type { PipelineRecord, StopReason } from '@tide/core/definition/pipeline'
import type { Lane, PrepareStep } from '@tide/core/plan/plan'
import type { Database } from './database.ts'
import { pipeline } from './schema.ts'

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

  /** Tables that were made in one target are not this pipeline's own in another: with the target the plan is forgotten. */
  async setDefinition(id: string, definition: Definition): Promise<void> {
    const present = await this.get(id)
    const moved = present?.definition.to !== definition.to
    const forgotten = moved ? { lanes: [], steps: [] } : {}
    await this.db
      .update(pipeline)
      .set({ definition, ...forgotten })
      .where(eq(pipeline.id, id))
  }

  /** From here on everything at the target that is older than the next epoch belongs to an earlier start. */
  async start(id: string, plan: { lanes: Lane[]; steps: PrepareStep[] }, startedAt: string): Promise<void> {
    await this.db
      .update(pipeline)
      .set({
        ...plan,
        startedAt,
        wanted: 'run',
        state: 'Copying',
        reason: null,
        freshFrom: sql`${pipeline.epoch} + 1`,
      })
      .where(eq(pipeline.id, id))
  }

  async want(id: string, wanted: PipelineRecord['wanted']): Promise<void> {
    await this.db.update(pipeline).set({ wanted }).where(eq(pipeline.id, id))
  }

  async setState(id: string, state: PipelineState, reason: StopReason | null): Promise<void> {
    await this.db.update(pipeline).set({ state, reason }).where(eq(pipeline.id, id))
  }

  /** A new epoch: whoever wrote under an older one cannot write any more. */
  async takeEpoch(id: string): Promise<number> {
    const [row] = await this.db
      .update(pipeline)
      .set({ epoch: sql`${pipeline.epoch} + 1` })
      .where(eq(pipeline.id, id))
      .returning({ epoch: pipeline.epoch })
    if (!row) throw new Error(`no pipeline ${id}`)
    return row.epoch
  }

  async remove(id: string): Promise<void> {
    await this.db.delete(pipeline).where(eq(pipeline.id, id))
  }
}
