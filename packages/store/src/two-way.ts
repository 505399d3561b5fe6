import { and, asc, desc, eq, gte, inArray, isNotNull, isNull, lte, ne, or, sql } from 'drizzle-orm'
import type { PairSeen, TwoWayTrail } from '@tide/core/api/two-way'
import type { Side } from '@tide/core/merge/rule'
import type { LaneProgress, PairCommit, PairTotals } from '@tide/core/two-way/commit'
import type { TwoWayIntent } from '@tide/core/two-way/intent'
import type { Pair } from '@tide/core/two-way/pair'
import { Failure } from '@tide/core/failure'
import type { Database } from './database.ts'
import { pipeline, twoWayIntent, twoWayLane, twoWayPair, twoWayTrail } from './schema.ts'

/** So many rows go into one statement. */
const AT_ONCE = 200

/** Pairs of two-way pipelines, what was agreed of them, what is about to be written. */
export class TwoWayPairs {
  private readonly db: Database

  constructor(db: Database) {
    this.db = db
  }

  async lane(of: string, lane: string): Promise<LaneProgress | undefined> {
    const [found] = await this.db
      .select()
      .from(twoWayLane)
      .where(and(eq(twoWayLane.pipeline, of), eq(twoWayLane.lane, lane)))
    return found && { digest: found.digest, cursors: found.cursors, sweptAt: found.sweptAt }
  }

  async find(of: string, lane: string, side: Side, ids: readonly string[]): Promise<Pair[]> {
    const found: Pair[] = []
    for (let at = 0; at < ids.length; at += AT_ONCE) {
      const rows = await this.db
        .select()
        .from(twoWayPair)
        .where(
          and(
            eq(twoWayPair.pipeline, of),
            eq(twoWayPair.lane, lane),
            inArray(twoWayPair[side], ids.slice(at, at + AT_ONCE)),
          ),
        )
      found.push(...rows.map(pairOf))
    }
    return found
  }

  async get(of: string, ids: readonly string[]): Promise<Pair[]> {
    const found: Pair[] = []
    for (let at = 0; at < ids.length; at += AT_ONCE) {
      const rows = await this.db
        .select()
        .from(twoWayPair)
        .where(and(eq(twoWayPair.pipeline, of), inArray(twoWayPair.id, ids.slice(at, at + AT_ONCE))))
      found.push(...rows.map(pairOf))
    }
    return found
  }

  async waiting(of: string, lane: string): Promise<Pair[]> {
    const rows = await this.db
      .select()
      .from(twoWayPair)
      .where(and(eq(twoWayPair.pipeline, of), eq(twoWayPair.lane, lane), eq(twoWayPair.waits, true)))
    return rows.map(pairOf)
  }

  async strangers(of: string, lane: string): Promise<Pair[]> {
    const rows = await this.db
      .select()
      .from(twoWayPair)
      .where(and(eq(twoWayPair.pipeline, of), eq(twoWayPair.lane, lane), eq(twoWayPair.state, 'stranger')))
    return rows.map(pairOf)
  }

  /** The keys of a side, of pairs that have both halves. */
  async keys(of: string, lane: string, side: Side): Promise<string[]> {
    const rows = await this.db
      .select({ id: twoWayPair[side] })
      .from(twoWayPair)
      .where(
        and(
          eq(twoWayPair.pipeline, of),
          eq(twoWayPair.lane, lane),
          isNotNull(twoWayPair[side]),
          inArray(twoWayPair.state, ['in step', 'asleep']),
        ),
      )
    return rows.flatMap(({ id }) => id ?? [])
  }

  async intents(of: string): Promise<TwoWayIntent[]> {
    const rows = await this.db
      .select()
      .from(twoWayIntent)
      .where(eq(twoWayIntent.pipeline, of))
      .orderBy(asc(twoWayIntent.at), asc(twoWayIntent.once))
    return rows.map(({ intent }) => intent)
  }

  /** Throws a transient Failure when another engine has the pipeline by now. */
  async commit(of: string, commit: PairCommit): Promise<void> {
    const { epoch, at, put = [], over = [], begin = [], settled = [], trail = [], lane } = commit
    await this.db.transaction(async tx => {
      const [now] = await tx
        .select({ epoch: pipeline.epoch })
        .from(pipeline)
        .where(eq(pipeline.id, of))
        .for('share')
      if (now?.epoch !== epoch)
        throw new Failure(
          'transient',
          'Another engine has taken the pipeline over.',
          'Nothing is to be done.',
        )
      if (over.length > 0)
        for (let i = 0; i < over.length; i += AT_ONCE)
          await tx
            .delete(twoWayPair)
            .where(and(eq(twoWayPair.pipeline, of), inArray(twoWayPair.id, over.slice(i, i + AT_ONCE))))
      for (let i = 0; i < put.length; i += AT_ONCE) {
        const rows = put.slice(i, i + AT_ONCE).map(({ halves, held, ...pair }) => ({
          ...pair,
          pipeline: of,
          a: halves.a?.id ?? null,
          b: halves.b?.id ?? null,
          halves,
          held,
          isHeld: held.length > 0,
          changedAt: at,
        }))
        await tx.insert(twoWayPair).values(rows).onConflictDoUpdate({ target: twoWayPair.id, set: REPLACED })
      }
      if (begin.length > 0)
        await tx
          .insert(twoWayIntent)
          .values(begin.map(intent => ({ once: intent.once, pipeline: of, intent, at })))
      if (settled.length > 0)
        await tx
          .delete(twoWayIntent)
          .where(and(eq(twoWayIntent.pipeline, of), inArray(twoWayIntent.once, [...settled])))
      for (let i = 0; i < trail.length; i += AT_ONCE)
        await tx
          .insert(twoWayTrail)
          .values(trail.slice(i, i + AT_ONCE).map(one => ({ ...one, pipeline: of })))
      if (lane) {
        const { name, ...progress } = lane
        await tx
          .insert(twoWayLane)
          .values({ pipeline: of, lane: name, ...progress })
          .onConflictDoUpdate({ target: [twoWayLane.pipeline, twoWayLane.lane], set: progress })
      }
    })
  }

  async totals(of: string): Promise<PairTotals> {
    const is = (condition: ReturnType<typeof sql>) => sql<number>`count(*) FILTER (WHERE ${condition})::int`
    const [found] = await this.db
      .select({
        pairs: is(
          sql`${twoWayPair.a} IS NOT NULL AND ${twoWayPair.b} IS NOT NULL AND ${twoWayPair.state} <> 'apart'`,
        ),
        asleep: is(sql`${twoWayPair.state} = 'asleep'`),
        held: is(sql`${twoWayPair.isHeld}`),
        waiting: is(sql`${twoWayPair.waits}`),
      })
      .from(twoWayPair)
      .where(eq(twoWayPair.pipeline, of))
    return found!
  }

  /** Those that were changed last. */
  async list(
    of: string,
    {
      find,
      lane,
      only,
      limit,
    }: { find: string; lane: string; only: '' | 'held' | 'waiting' | 'asleep' | 'alone'; limit: number },
  ): Promise<PairSeen[]> {
    const like = `%${find.toLowerCase().replace(/[\\%_]/g, '\\$&')}%`
    const rows = await this.db
      .select()
      .from(twoWayPair)
      .where(
        and(
          eq(twoWayPair.pipeline, of),
          ne(twoWayPair.state, 'stranger'),
          lane === '' ? undefined : eq(twoWayPair.lane, lane),
          only === 'held' ? eq(twoWayPair.isHeld, true) : undefined,
          only === 'waiting' ? eq(twoWayPair.waits, true) : undefined,
          only === 'asleep' ? eq(twoWayPair.state, 'asleep') : undefined,
          only === 'alone' ? or(isNull(twoWayPair.a), isNull(twoWayPair.b)) : undefined,
          find === ''
            ? undefined
            : sql`lower(concat_ws(' ', ${twoWayPair.a}, ${twoWayPair.b}, ${twoWayPair.label}, ${twoWayPair.halves}::text)) LIKE ${like}`,
        ),
      )
      .orderBy(desc(twoWayPair.changedAt), asc(twoWayPair.id))
      .limit(limit)
    return rows.map(seenOf)
  }

  /** Pairs of the lane one half of which holds one of these values in its field; the first that were made. */
  async linked(
    of: string,
    lane: string,
    by: readonly { side: Side; field: string; value: string }[],
    limit: number,
  ): Promise<PairSeen[]> {
    const holds = by.map(
      ({ side, field, value }) => sql`${twoWayPair.halves} #>> ${pathTo(side, field)} = ${value}`,
    )
    const rows = await this.db
      .select()
      .from(twoWayPair)
      .where(and(eq(twoWayPair.pipeline, of), eq(twoWayPair.lane, lane), or(...holds)))
      .orderBy(asc(twoWayPair.id))
      .limit(limit)
    return rows.map(seenOf)
  }

  /** The newest first. */
  async trail(
    of: string,
    {
      pair,
      run,
      from,
      to,
      limit,
    }: { pair?: string; run?: string; from?: string; to?: string; limit: number },
  ): Promise<TwoWayTrail[]> {
    const rows = await this.db
      .select()
      .from(twoWayTrail)
      .where(
        and(
          eq(twoWayTrail.pipeline, of),
          pair === undefined ? undefined : eq(twoWayTrail.pair, pair),
          run === undefined ? undefined : eq(twoWayTrail.run, run),
          from === undefined ? undefined : gte(twoWayTrail.at, from),
          to === undefined ? undefined : lte(twoWayTrail.at, to),
        ),
      )
      .orderBy(desc(twoWayTrail.id))
      .limit(limit)
    return rows.map(({ pipeline: _, ...one }) => one)
  }
}

const REPLACED = {
  a: sql`excluded.a`,
  b: sql`excluded.b`,
  origin: sql`excluded.origin`,
  halves: sql`excluded.halves`,
  base: sql`excluded.base`,
  state: sql`excluded.state`,
  held: sql`excluded.held`,
  isHeld: sql`excluded.is_held`,
  alone: sql`excluded.alone`,
  waits: sql`excluded.waits`,
  label: sql`excluded.label`,
  changedAt: sql`excluded.changed_at`,
}

/** Of a record's field in the halves of a pair. */
function pathTo(side: Side, field: string) {
  return sql`ARRAY[${side}, 'record', ${field}]::text[]`
}

function seenOf(row: typeof twoWayPair.$inferSelect): PairSeen {
  const { halves, ...pair } = pairOf(row)
  const seen = (half: Pair['halves']['a']) =>
    half && { id: half.id, values: half.record, changedAt: half.changedAt }
  return { ...pair, label: row.label, changedAt: row.changedAt, a: seen(halves.a), b: seen(halves.b) }
}

function pairOf(row: typeof twoWayPair.$inferSelect): Pair {
  const { id, lane, origin, halves, base, state, held, alone, waits } = row
  return { id, lane, origin, halves, base, state, held, alone, waits }
}
