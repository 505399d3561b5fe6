import { and, asc, count, desc, eq, gt, inArray, isNotNull, isNull, notInArray, sql } from 'drizzle-orm'
import {
  NOTHING_VERIFIED,
  type AskedLane,
  type AskedVerification,
  type Difference,
  type KeptDifference,
  type LaneVerified,
  type RepairDeed,
} from '@tide/core/definition/verification'
import type { Key } from '@tide/core/records/value'
import type { Database } from './database.ts'
import { difference, verification, verifiedLane } from './schema.ts'
import type { Seal } from './seal.ts'

/** So many of a pipeline are kept. */
const KEPT = 50
const AT_ONCE = 500
const OVER = new Set<LaneVerified['state']>(['done', 'failed', 'ended'])

export interface KeptVerification extends Omit<AskedVerification, 'lanes'> {
  lanes: { lane: number; verified: LaneVerified; repaired: number }[]
}

/** What was held against its sources, and what differed. Keys are sealed, for they may be masked at the target. */
export class Verifications {
  private readonly db: Database
  private readonly seal: Seal

  constructor(db: Database, seal: Seal) {
    this.db = db
    this.seal = seal
  }

  async ask({ lanes, ...asked }: AskedVerification): Promise<void> {
    const verified = { ...NOTHING_VERIFIED, level: asked.level }
    await this.db.transaction(async tx => {
      await tx.insert(verification).values(asked)
      await tx.insert(verifiedLane).values(lanes.map(lane => ({ ...lane, verification: asked.id, verified })))
      const newest = tx
        .select({ id: verification.id })
        .from(verification)
        .where(eq(verification.pipeline, asked.pipeline))
        .orderBy(desc(verification.askedAt))
        .limit(KEPT)
      await tx
        .delete(verification)
        .where(and(eq(verification.pipeline, asked.pipeline), notInArray(verification.id, newest)))
    })
  }

  asked(run: string): Promise<AskedLane[]> {
    const { index } = verifiedLane
    return this.db
      .select({ verification: verification.id, index, level: verification.level, pace: verification.pace })
      .from(verifiedLane)
      .innerJoin(verification, eq(verification.id, verifiedLane.verification))
      .where(and(eq(verifiedLane.run, run), eq(verifiedLane.over, false)))
      .orderBy(verification.askedAt, verifiedLane.lane)
  }

  async tell(run: string, lane: AskedLane, verified: LaneVerified): Promise<boolean> {
    const told = await this.db
      .update(verifiedLane)
      .set({ verified, over: OVER.has(verified.state) })
      .where(and(ofRun(run, lane), eq(verifiedLane.over, false)))
      .returning({ lane: verifiedLane.lane })
    return told.length > 0
  }

  async begin(run: string, lane: AskedLane): Promise<void> {
    const at = await this.laneOf(run, lane)
    if (at !== undefined) await this.db.delete(difference).where(ofLane(lane.verification, at))
  }

  async keep(run: string, lane: AskedLane, differences: readonly Difference[]): Promise<void> {
    const at = await this.laneOf(run, lane)
    if (at === undefined) return
    const rows = differences.map(({ key, kind, columns }) => ({
      verification: lane.verification,
      lane: at,
      key: this.seal.close(JSON.stringify(key)),
      kind,
      columns,
    }))
    for (let from = 0; from < rows.length; from += AT_ONCE)
      await this.db.insert(difference).values(rows.slice(from, from + AT_ONCE))
  }

  async toRepair(run: string, { ids, ...lane }: RepairDeed): Promise<KeptDifference[]> {
    const at = await this.laneOf(run, lane)
    if (at === undefined) return []
    const found = await this.db
      .select()
      .from(difference)
      .where(
        and(
          ofLane(lane.verification, at),
          isNull(difference.repairedAt),
          ...(ids.length > 0 ? [inArray(difference.id, ids)] : []),
        ),
      )
      .orderBy(difference.id)
    return found.map(one => this.opened(one))
  }

  async repaired(ids: readonly number[], at: string): Promise<void> {
    await this.db
      .update(difference)
      .set({ repairedAt: at })
      .where(inArray(difference.id, [...ids]))
  }

  /** Ends what is not over of a verification. */
  async end(pipeline: string, id: string, at: string): Promise<void> {
    const mine = this.db
      .select({ id: verification.id })
      .from(verification)
      .where(and(eq(verification.pipeline, pipeline), eq(verification.id, id)))
    const ended = JSON.stringify({ state: 'ended', endedAt: at, waits: null })
    await this.db
      .update(verifiedLane)
      .set({ over: true, verified: sql`${verifiedLane.verified} || ${ended}::jsonb` })
      .where(and(inArray(verifiedLane.verification, mine), eq(verifiedLane.over, false)))
  }

  /** Those of a pipeline, the newest first. */
  async list(pipeline: string, limit: number): Promise<KeptVerification[]> {
    const found = await this.db
      .select()
      .from(verification)
      .where(eq(verification.pipeline, pipeline))
      .orderBy(desc(verification.askedAt))
      .limit(limit)
    if (found.length === 0) return []
    const ids = found.map(({ id }) => id)
    const [lanes, repaired] = await Promise.all([
      this.db
        .select()
        .from(verifiedLane)
        .where(inArray(verifiedLane.verification, ids))
        .orderBy(verifiedLane.lane),
      this.db
        .select({ verification: difference.verification, lane: difference.lane, rows: count() })
        .from(difference)
        .where(and(inArray(difference.verification, ids), isNotNull(difference.repairedAt)))
        .groupBy(difference.verification, difference.lane),
    ])
    const repairedOf = (id: string, lane: number) =>
      repaired.find(one => one.verification === id && one.lane === lane)?.rows ?? 0
    return found.map(one => ({
      ...one,
      lanes: lanes
        .filter(lane => lane.verification === one.id)
        .map(({ lane, verified }) => ({ lane, verified, repaired: repairedOf(one.id, lane) })),
    }))
  }

  /** Differences of a lane in the order in which they were found, from behind an id on. */
  async differences(id: string, lane: number, after: number, limit: number): Promise<KeptDifference[]> {
    const found = await this.db
      .select()
      .from(difference)
      .where(and(ofLane(id, lane), gt(difference.id, after)))
      .orderBy(asc(difference.id))
      .limit(limit)
    return found.map(one => this.opened(one))
  }

  async isOf(pipeline: string, id: string): Promise<boolean> {
    const found = await this.db
      .select({ id: verification.id })
      .from(verification)
      .where(and(eq(verification.id, id), eq(verification.pipeline, pipeline)))
    return found.length > 0
  }

  /** The record that runs a lane, and its place there. */
  async placeOf(id: string, lane: number): Promise<{ run: string; index: number } | undefined> {
    const [found] = await this.db
      .select({ run: verifiedLane.run, index: verifiedLane.index })
      .from(verifiedLane)
      .where(and(eq(verifiedLane.verification, id), eq(verifiedLane.lane, lane)))
    return found
  }

  private async laneOf(
    run: string,
    lane: Pick<AskedLane, 'verification' | 'index'>,
  ): Promise<number | undefined> {
    const [found] = await this.db
      .select({ lane: verifiedLane.lane })
      .from(verifiedLane)
      .where(ofRun(run, lane))
    return found?.lane
  }

  private opened({ key, ...rest }: typeof difference.$inferSelect): KeptDifference {
    return { ...rest, key: JSON.parse(this.seal.open(key)) as Key }
  }
}

function ofRun(run: string, { verification: id, index }: Pick<AskedLane, 'verification' | 'index'>) {
  return and(eq(verifiedLane.verification, id), eq(verifiedLane.run, run), eq(verifiedLane.index, index))
}

function ofLane(id: string, lane: number) {
  return and(eq(difference.verification, id), eq(difference.lane, lane))
}
