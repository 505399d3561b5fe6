import { and, desc, eq, getTableColumns, inArray, lt, ne, or, sql, type SQLWrapper } from 'drizzle-orm'
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

  async differing(of: string): Promise<Pick<HeldRecord, 'table' | 'identity' | 'state' | 'heldAt'>[]> {
    const found = await this.db
      .selectDistinctOn([held.table, held.keyHash], {
        table: held.table,
        identity: held.identity,
        state: held.state,
        heldAt: held.heldAt,
      })
      .from(held)
      .where(and(eq(held.pipeline, of), eq(held.differs, true)))
      .orderBy(held.table, held.keyHash, desc(sql`${held.state} = 'open'`), held.heldAt)
    return found.map(row => ({ ...row, identity: this.keyOf(row.identity) }))
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

  /** Held rows by the cause of the newest record of each, of all pipelines or of one and its origins; most rows first. */
  causes(of?: string): Promise<HeldCause[]> {
    const newest = this.newest()
    const rows = sql<number>`count(*)::int`
    const last = <T>(column: SQLWrapper) => sql<T>`(array_agg(${column} ORDER BY ${newest.id} DESC))[1]`
    return this.db
      .select({
        run: newest.pipeline,
        table: newest.table,
        cause: newest.cause,
        column: last<string | null>(newest.column),
        reason: last<string>(newest.reason),
        remedy: last<string>(newest.remedy),
        rows,
        records: sql<number>`sum(${newest.records})::int`,
        oldest: sql<string>`min(${newest.heldAt})`.mapWith(held.heldAt),
        newest: sql<string>`max(${newest.heldAt})`.mapWith(held.heldAt),
      })
      .from(newest)
      .innerJoin(pipeline, eq(pipeline.id, newest.pipeline))
      .where(of === undefined ? undefined : or(eq(pipeline.id, of), eq(pipeline.of, of)))
      .groupBy(newest.pipeline, newest.table, newest.cause)
      .orderBy(desc(rows))
  }

  /** Of a run, the newest record of each row that is held for a cause; the newest first, from before an id on. */
  async list(
    of: string,
    { cause, table }: { cause: string; table: string },
    limit: number,
    before?: number,
  ): Promise<(HeldRecord & { behind: number })[]> {
    const newest = this.newest(of)
    const found = await this.db
      .select()
      .from(newest)
      .where(
        and(
          eq(newest.cause, cause),
          eq(newest.table, table),
          ...(before === undefined ? [] : [lt(newest.id, before)]),
        ),
      )
      .orderBy(desc(newest.id))
      .limit(limit)
    return found.map(({ records, ...one }) => ({ ...this.recordOf(one), behind: records - 1 }))
  }

  /** All of one row, the newest first. */
  async ofRow(of: string, table: string, key: Key): Promise<HeldRecord[]> {
    const found = await this.db
      .select()
      .from(held)
      .where(and(eq(held.pipeline, of), eq(held.table, table), eq(held.keyHash, this.hashOf(key))))
      .orderBy(desc(held.id))
      .limit(AT_ONCE)
    return found.map(one => this.recordOf(one))
  }

  /** Those of a run that are closed, the newest first. */
  async closed(of: string, limit: number): Promise<HeldRecord[]> {
    const found = await this.db
      .select()
      .from(held)
      .where(and(eq(held.pipeline, of), ne(held.state, 'open')))
      .orderBy(desc(held.id))
      .limit(limit)
    return found.map(one => this.recordOf(one))
  }

  /** Ids of the newest record of each row that is held for a cause. */
  async idsOf(
    of: string,
    { cause, table }: { cause: string; table: string },
    limit: number,
  ): Promise<number[]> {
    const newest = this.newest(of)
    const found = await this.db
      .select({ id: newest.id })
      .from(newest)
      .where(and(eq(newest.cause, cause), eq(newest.table, table)))
      .limit(limit)
    return found.map(({ id }) => id)
  }

  async trim(before: string): Promise<void> {
    await this.db.delete(held).where(and(eq(held.differs, false), lt(held.closedAt, before)))
  }

  /** The newest open record of each row, with how many there are of it. */
  private newest(of?: string) {
    return this.db
      .selectDistinctOn([held.pipeline, held.table, held.keyHash], {
        ...getTableColumns(held),
        records:
          sql<number>`(count(*) OVER (PARTITION BY ${held.pipeline}, ${held.table}, ${held.keyHash}))::int`.as(
            'records',
          ),
      })
      .from(held)
      .where(and(eq(held.state, 'open'), ...(of === undefined ? [] : [eq(held.pipeline, of)])))
      .orderBy(held.pipeline, held.table, held.keyHash, desc(held.id))
      .as('newest')
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
