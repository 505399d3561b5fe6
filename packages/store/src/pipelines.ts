import { and, asc, eq, inArray, isNull, or, sql, type SQL } from 'drizzle-orm'
import { CHANGEABLE, type Definition, type PipelineState } from '@tide/core/definition/definition'
import { ofOrigin, originsOf } from '@tide/core/definition/origins'
import {
  pendingOf,
  stateOfOrigins,
  type Affinity,
  type ChangedPlan,
  type PipelineRecord,
  type StartedPlan,
  type StopReason,
} from '@tide/core/definition/pipeline'
import type { Database } from './database.ts'
import { errand, pipeline } from './schema.ts'
import { keepVersion } from './versions.ts'

/** It does not run, and nor does an origin of it. */
const IS_CHANGEABLE = sql`${pipeline.state} IN ${[...CHANGEABLE]} AND NOT EXISTS (
  SELECT 1 FROM pipeline one WHERE one.of = ${pipeline}.id AND one.state NOT IN ${[...CHANGEABLE]})`

function isDefinition(definition: Definition): SQL {
  return sql`${pipeline.definition} = ${JSON.stringify(definition)}::jsonb`
}

type Row = typeof pipeline.$inferSelect

/** Pipelines with their origins, and origins of which the pipeline is not among the rows. */
function together(rows: readonly Row[]): PipelineRecord[] {
  const there = new Set(rows.map(({ id }) => id))
  return rows
    .filter(({ of }) => of === null || !there.has(of))
    .map(row => {
      const origins = rows.filter(({ of }) => of === row.id).map(one => ({ ...one, origins: [] }))
      if (origins.length === 0) return { ...row, origins }
      const [first] = origins
      const stopped = origins.find(({ reason }) => reason && reason.kind !== 'person') ?? first!
      return {
        ...row,
        origins,
        state: stateOfOrigins(origins.map(({ state }) => state)),
        reason: stopped.reason,
        wanted: (['run', 'pause', 'stop'] as const).find(wanted =>
          origins.some(one => one.wanted === wanted),
        )!,
        home: first!.home,
        affinity: first!.affinity,
      }
    })
}

/** How a pipeline stands once it was started, by its shape. */
const BEGINS: Record<Definition['shape'], PipelineState> = {
  replicate: 'Copying',
  send: 'Waiting',
  'two-way': 'Following',
}

export class Pipelines {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  /** Each with its origins. */
  async list(): Promise<PipelineRecord[]> {
    return together(
      await this.db.select().from(pipeline).orderBy(asc(pipeline.createdAt), asc(pipeline.place)),
    )
  }

  /** A pipeline, or one origin of one. */
  async get(id: string): Promise<PipelineRecord | undefined> {
    const rows = await this.db
      .select()
      .from(pipeline)
      .where(or(eq(pipeline.id, id), eq(pipeline.of, id)))
      .orderBy(asc(pipeline.createdAt), asc(pipeline.place))
    return together(rows).find(record => record.id === id)
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
      .where(and(eq(pipeline.id, id), IS_CHANGEABLE))
      .returning({ id: pipeline.id })
    return set.length > 0
  }

  /**
   * What a pipeline with several origins is about to make at the target is its own from here on. False when it runs
   * already, or its definition is another one by now.
   */
  async own(id: string, { definition, lanes, steps }: StartedPlan): Promise<boolean> {
    const set = await this.db
      .update(pipeline)
      .set({ lanes, steps })
      .where(and(eq(pipeline.id, id), IS_CHANGEABLE, isDefinition(definition)))
      .returning({ id: pipeline.id })
    return set.length > 0
  }

  /**
   * Starts all origins; those of before that are not among them are forgotten. False as with `own`. `newId` is asked for
   * those that are new.
   */
  startOrigins(
    id: string,
    { definition, lanes }: StartedPlan,
    startedAt: string,
    ties: readonly (Affinity | null)[],
    newId: () => string,
  ): Promise<boolean> {
    return this.db.transaction(async db => {
      const started = await db
        .update(pipeline)
        .set({ startedAt, state: 'Ready', reason: null, change: null })
        .where(and(eq(pipeline.id, id), IS_CHANGEABLE, isDefinition(definition)))
        .returning({ createdAt: pipeline.createdAt })
      if (started.length === 0) return false
      await keepVersion(db, id, definition, startedAt)
      const known = await db.select().from(pipeline).where(eq(pipeline.of, id))
      const origins = originsOf(definition)
      const gone = known.filter(({ origin }) => !origins.some(({ tag }) => tag === origin))
      if (gone.length > 0)
        await db.delete(pipeline).where(
          inArray(
            pipeline.id,
            gone.map(one => one.id),
          ),
        )
      for (const [place, origin] of origins.entries()) {
        const was = known.find(one => one.origin === origin.tag)
        const tie = ties[place] ?? null
        const now = {
          definition: ofOrigin(definition, origin),
          lanes: lanes.filter(lane => lane.origin === origin.tag),
          steps: [],
          place,
          startedAt,
          wanted: 'run' as const,
          state: 'Copying' as const,
          reason: null,
          change: null,
          home: tie?.home ?? null,
          affinity: tie?.affinity ?? null,
        }
        if (was) {
          await db
            .update(pipeline)
            .set({ ...now, freshFrom: sql`${pipeline.epoch} + 1` })
            .where(eq(pipeline.id, was.id))
          await db.delete(errand).where(and(eq(errand.pipeline, was.id), isNull(errand.endedAt)))
        } else {
          const { createdAt } = started[0]!
          await db.insert(pipeline).values({ ...now, id: newId(), of: id, origin: origin.tag, createdAt })
        }
      }
      return true
    })
  }

  /** From here on everything at the target that is older than the next epoch belongs to an earlier start. */
  start(
    id: string,
    { definition, lanes, steps }: StartedPlan,
    startedAt: string,
    affinity: Affinity | null,
  ): Promise<boolean> {
    return this.db.transaction(async db => {
      const started = await db
        .update(pipeline)
        .set({
          lanes,
          steps,
          startedAt,
          wanted: 'run',
          state: BEGINS[definition.shape],
          reason: null,
          change: null,
          home: affinity?.home ?? null,
          affinity: affinity?.affinity ?? null,
          freshFrom: sql`${pipeline.epoch} + 1`,
        })
        .where(and(eq(pipeline.id, id), IS_CHANGEABLE, isDefinition(definition)))
        .returning({ id: pipeline.id })
      if (started.length === 0) return false
      await keepVersion(db, id, definition, startedAt)
      // It may have had several origins before.
      await db.delete(pipeline).where(eq(pipeline.of, id))
      // What was asked of it before means nothing to what is copied anew.
      await db.delete(errand).where(and(eq(errand.pipeline, id), isNull(errand.endedAt)))
      return true
    })
  }

  /** An origin is copied anew, by the plan that its pipeline was started with. False when it runs. */
  async startAgain(id: string, startedAt: string, affinity: Affinity | null): Promise<boolean> {
    const started = await this.db
      .update(pipeline)
      .set({
        startedAt,
        wanted: 'run',
        state: 'Copying',
        reason: null,
        home: affinity?.home ?? null,
        affinity: affinity?.affinity ?? null,
        freshFrom: sql`${pipeline.epoch} + 1`,
      })
      .where(and(eq(pipeline.id, id), inArray(pipeline.state, [...CHANGEABLE])))
      .returning({ id: pipeline.id })
    return started.length > 0
  }

  /** It can only be run where this data folder is, from now on. */
  async bind(id: string, { home, affinity }: Affinity): Promise<void> {
    await this.db.update(pipeline).set({ home, affinity }).where(eq(pipeline.id, id))
  }

  /** See `PipelineRepository`. */
  change(
    id: string,
    from: number,
    { definition, lanes, steps, change }: ChangedPlan,
    at: string,
    ties: readonly (Affinity | null)[],
    newId: () => string,
  ): Promise<boolean> {
    return this.db.transaction(async db => {
      const rows = await db
        .select()
        .from(pipeline)
        .where(or(eq(pipeline.id, id), eq(pipeline.of, id)))
        .orderBy(asc(pipeline.createdAt), asc(pipeline.place))
        .for('update')
      const [record] = together(rows)
      if (record?.plan !== from || rows.some(row => row.change !== null)) return false
      if (record.state !== 'Following' && record.state !== 'Paused') return false
      const plan = from + 1
      await keepVersion(db, id, definition, at)
      const set = (to: string, now: Partial<typeof pipeline.$inferInsert>) =>
        db.update(pipeline).set(now).where(eq(pipeline.id, to))
      if (record.origins.length === 0) {
        const pending = { lanes: pendingOf(record, lanes, change.lanes, ''), steps }
        await set(id, { definition, lanes, steps: [], plan, change: pending })
        return true
      }
      await set(id, { definition, lanes, plan })
      // One that is at its place does what the tables need; the others wait for it.
      const leader = record.origins.find(({ state }) => state === 'Following' || state === 'Paused')!
      const wait = steps.length > 0 ? { after: leader.id } : {}
      for (const [place, origin] of originsOf(definition).entries()) {
        const { tag } = origin
        const own = {
          definition: ofOrigin(definition, origin),
          lanes: lanes.filter(lane => lane.origin === tag),
          place,
        }
        const pending = { lanes: pendingOf(record, lanes, change.lanes, tag), steps: [], ...wait }
        const was = record.origins.find(one => one.origin === tag)
        if (!was) {
          const tie = ties[place] ?? null
          await db.insert(pipeline).values({
            ...own,
            id: newId(),
            of: id,
            origin: tag,
            createdAt: rows[0]!.createdAt,
            startedAt: at,
            wanted: 'run',
            state: 'Copying',
            home: tie?.home ?? null,
            affinity: tie?.affinity ?? null,
            plan: 1,
            change: pending,
          })
        } else if (was.reason?.kind === 'person') await set(was.id, { ...own, plan: was.plan + 1 })
        else {
          const todo = was.id === leader.id ? { lanes: pending.lanes, steps } : pending
          await set(was.id, { ...own, steps: [], plan: was.plan + 1, change: todo })
        }
      }
      return true
    })
  }

  /** See `PipelineRepository`. */
  async changed(id: string, plan: number): Promise<void> {
    await this.db
      .update(pipeline)
      .set({ change: null })
      .where(and(eq(pipeline.id, id), eq(pipeline.plan, plan)))
  }

  /** The log of a pipeline and of its origins tells details until then. */
  async tellDetails(id: string, until: string | null): Promise<void> {
    await this.db
      .update(pipeline)
      .set({ detailedUntil: until })
      .where(or(eq(pipeline.id, id), eq(pipeline.of, id)))
  }

  async want(id: string, wanted: PipelineRecord['wanted']): Promise<void> {
    await this.db.update(pipeline).set({ wanted }).where(eq(pipeline.id, id))
  }

  /** A pipeline that had stopped for a reason is taken up again, to run or to be stopped for good. */
  async takeUp(id: string, wanted: 'run' | 'stop'): Promise<void> {
    // Whoever runs it finds out whether the copy was complete.
    const going = sql<PipelineState>`CASE ${pipeline.definition}->>'shape' WHEN 'send' THEN 'Waiting' WHEN 'two-way' THEN 'Following' ELSE 'Copying' END`
    const state = wanted === 'run' ? { state: going } : {}
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
      // What is finished is still to be taken off its systems, like what is stopped.
      .set({ state, reason, ...(state === 'Finished' ? { wanted: 'stop' as const } : {}) })
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
