import { and, desc, eq, inArray, lt, or, sql } from 'drizzle-orm'
import { causeOf, type Held, type HeldRecord, type HeldState } from '@tide/core/definition/held'
import { keyText, type Key } from '@tide/core/records/value'
import { createHmac } from 'node:crypto'
import type { Database } from './database.ts'
import { held, pipeline } from './schema.ts'
import type { Seal } from './seal.ts'

/** So many rows go into one statement. */
const AT_ONCE = 200

export interface HeldCause {
  run: string
  table: string
  cause: string
  column: string | null
  reason: string
  remedy: string
  rows: number
  records: number
  oldest: string
  newest: string
}

/** Rows that targets would not take. Keys are sealed, for they may be masked at the target. */
export class HeldRecords {
  private readonly db: Database
  private readonly seal: Seal
  private readonly hashKey: Uint8Array

  /** `hashKey`: what keys are found by is a hash with it. */
  constructor(db: Database, seal: Seal, hashKey: Uint8Array) {
    this.db = db
    this.seal = seal
    this.hashKey = hashKey
  }

  async keep(records: readonly Held[]): Promise<void> {
    const rows = records.map(({ identity, ...rest }) => ({
      ...rest,
      identity: this.seal.close(JSON.stringify(identity)),
      keyHash: this.hashOf(identity),
      cause: causeOf(rest),
    }))
    for (let at = 0; at < rows.length; at += AT_ONCE)
      await this.db
        .insert(held)
        .values(rows.slice(at, at + AT_ONCE))
        .onConflictDoNothing()
  }

  async differing(of: string): Promise<Pick<HeldRecord, 'table' | 'identity'>[]> {
    const found = await this.db
      .selectDistinctOn([held.table, held.keyHash], { table: held.table, identity: held.identity })
      .from(held)
      .where(and(eq(held.pipeline, of), eq(held.differs, true)))
    return found.map(({ table, identity }) => ({ table, identity: this.keyOf(identity) }))
  }

  async get(of: string, ids: readonly number[]): Promise<HeldRecord[]> {
    if (ids.length === 0) return []
    const found = await this.db
      .select()
      .from(held)
      .where(and(eq(held.pipeline, of), inArray(held.id, [...ids])))
      .orderBy(held.id)
    return found.map(one => this.recordOf(one))
  }

  async settle(
    of: string,
    table: string,
    keys: readonly Key[] | 'all',
    { state, at, note }: { state: Exclude<HeldState, 'open'>; at: string; note?: string },
  ): Promise<void> {
    const close = async (which: ReturnType<typeof and>) => {
      const end = { state, closedAt: at, ...(note === undefined ? {} : { note }) }
      await this.db
        .update(held)
        .set({ ...end, differs: state === 'dropped' })
        .where(and(which, eq(held.state, 'open')))
      if (state !== 'dropped') await this.db.update(held).set({ differs: false }).where(which)
    }
    const ofIt = and(eq(held.pipeline, of), eq(held.table, table), eq(held.differs, true))
    if (keys === 'all') return close(ofIt)
    for (let i = 0; i < keys.length; i += AT_ONCE) {
      const hashes = keys.slice(i, i + AT_ONCE).map(key => this.hashOf(key))
      await close(and(ofIt, inArray(held.keyHash, hashes)))
    }
  }

  /** Open ones by cause, of all pipelines or of one and its origins; those with most rows first. */
  causes(of?: string): Promise<HeldCause[]> {
    const rows = sql<number>`count(DISTINCT ${held.keyHash})::int`
    const newestOf = (column: typeof held.reason | typeof held.remedy) =>
      sql<string>`(array_agg(${column} ORDER BY ${held.id} DESC))[1]`
    const time = (which: 'min' | 'max') => sql<string>`${sql.raw(which)}(${held.heldAt})`.mapWith(held.heldAt)
    return this.db
      .select({
        run: held.pipeline,
        table: held.table,
        cause: held.cause,
        column: sql<string | null>`(array_agg(${held.column} ORDER BY ${held.id} DESC))[1]`,
        reason: newestOf(held.reason),
        remedy: newestOf(held.remedy),
        rows,
        records: sql<number>`count(*)::int`,
        oldest: time('min'),
        newest: time('max'),
      })
      .from(held)
      .innerJoin(pipeline, eq(pipeline.id, held.pipeline))
      .where(
        and(
          eq(held.state, 'open'),
          ...(of === undefined ? [] : [or(eq(pipeline.id, of), eq(pipeline.of, of))]),
        ),
      )
      .groupBy(held.pipeline, held.table, held.cause)
      .orderBy(desc(rows))
  }

  /** Those of a run: of one cause that are open, or all that are closed; the newest first, from before an id on. */
  async list(
    of: string,
    which: { cause: string; table: string } | 'closed',
    limit: number,
    before?: number,
  ): Promise<(HeldRecord & { behind: number })[]> {
    const conditions =
      which === 'closed'
        ? sql`${held.state} <> 'open'`
        : and(eq(held.state, 'open'), eq(held.cause, which.cause), eq(held.table, which.table))
    const found = await this.db
      .select()
      .from(held)
      .where(and(eq(held.pipeline, of), conditions, ...(before === undefined ? [] : [lt(held.id, before)])))
      .orderBy(desc(held.id))
      .limit(limit)
    const counts = await this.openOf(of, [...new Set(found.map(({ keyHash }) => keyHash))])
    return found.map(one => ({
      ...this.recordOf(one),
      behind: one.state === 'open' ? (counts.get(`${one.table} ${one.keyHash}`) ?? 1) - 1 : 0,
    }))
  }

  /** Ids of the open ones of a cause. */
  async idsOf(
    of: string,
    { cause, table }: { cause: string; table: string },
    limit: number,
  ): Promise<number[]> {
    const found = await this.db
      .select({ id: held.id })
      .from(held)
      .where(and(eq(held.pipeline, of), eq(held.state, 'open'), eq(held.cause, cause), eq(held.table, table)))
      .limit(limit)
    return found.map(({ id }) => id)
  }

  async trim(before: string): Promise<void> {
    await this.db.delete(held).where(and(eq(held.differs, false), lt(held.closedAt, before)))
  }

  private async openOf(of: string, hashes: readonly string[]): Promise<Map<string, number>> {
    if (hashes.length === 0) return new Map()
    const counted = await this.db
      .select({ table: held.table, keyHash: held.keyHash, n: sql<number>`count(*)::int` })
      .from(held)
      .where(and(eq(held.pipeline, of), eq(held.state, 'open'), inArray(held.keyHash, [...hashes])))
      .groupBy(held.table, held.keyHash)
    return new Map(counted.map(({ table, keyHash, n }) => [`${table} ${keyHash}`, n]))
  }

  private hashOf(key: Key): string {
    return createHmac('sha256', this.hashKey).update(keyText(key)).digest('hex')
  }

  private keyOf(sealed: string): Key {
    return JSON.parse(this.seal.open(sealed)) as Key
  }

  private recordOf({
    identity,
    keyHash: _hash,
    cause: _cause,
    differs: _differs,
    ...rest
  }: typeof held.$inferSelect): HeldRecord {
    return { ...rest, identity: this.keyOf(identity) }
  }
}
