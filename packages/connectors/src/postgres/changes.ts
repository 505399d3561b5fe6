/**
 * Reading the change table from snapshot to snapshot: a batch is the transactions that a new snapshot sees and the
 * old one does not, ordered by their highest sequence number. Where two transactions touched one row, its lock has
 * put the numbers in commit order; elsewhere the order does not matter.
 */
import { Failure } from '@tide/core/failure'
import type { Position } from '@tide/core/position/position'
import { parsePlace, parseSnapshot, printPlace, type ChangeTablePlace } from '@tide/core/position/snapshot'
import type { ChangeEvent, SourceTransaction } from '@tide/core/records/change'
import { printName } from '@tide/core/records/dataset'
import type { Row } from '@tide/core/records/value'
import type { Pool } from 'pg'
import type { ChangeBatch, SourceHead, SourceLane } from '../contract.ts'
import { SHAPE } from './capture.ts'
import { tableName, CAPTURE_SCHEMA } from './catalogue.ts'
import { CHANGES_IN_AN_ANSWER } from './answers.ts'
import { ident, parseComposite } from './text.ts'

const S = CAPTURE_SCHEMA

/** How often the capture itself is looked at while nothing changes. */
const INSPECT_EVERY_MS = 5_000
/** At most so many transactions are listed at once. */
const LIST_AT_ONCE = 10_000

interface Listed {
  xid: string
  last: bigint
  count: number
  at: string
}

interface Listing {
  seen: string
  toward: string
  /** The source's clock when `toward` was taken; null when that is not known any more. */
  takenAt: string | null
  transactions: Listed[]
  /** Whether there are more transactions than were listed. */
  more: boolean
  /** Changes in scope that the listed transactions and those behind them hold. */
  pending: number
}

const ISO = `to_char(%s AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')`
const iso = (expression: string) => ISO.replace('%s', expression)

const LIST = `
SELECT t.xid::text, t.last::text, t.count::text, ${iso('t.at')} AS at, (sum(t.count) OVER ())::text AS pending
  FROM (SELECT xid, max(seq) AS last, max(at) AS at, count(*) FILTER (WHERE relation = ANY ($4::oid[])) AS count
          FROM ${S}.change
         WHERE xid >= pg_snapshot_xmin($1::pg_snapshot)
           AND NOT pg_visible_in_snapshot(xid, $1::pg_snapshot)
           AND pg_visible_in_snapshot(xid, $2::pg_snapshot)
         GROUP BY xid) t
 WHERE t.last > $3::bigint AND t.count > 0
 ORDER BY t.last
 LIMIT ${LIST_AT_ONCE}`

/** A text holds about twice that; rows of a log have the same bound. */
const LARGEST_ROW_BYTES = 256 * 2 ** 20

/**
 * The source's clock is read as the statement came in, before it took its snapshot: what it does not see is later. What is
 * neither done nor seen: beyond the old snapshot, and beyond the point reached on the way to the next. */
const HEAD = `
SELECT count(*)::text AS pending, ${iso('min(at)')} AS oldest, ${iso('statement_timestamp()')} AS now
  FROM ${S}.change
 WHERE xid >= pg_snapshot_xmin($1::pg_snapshot)
   AND NOT pg_visible_in_snapshot(xid, $1::pg_snapshot)
   AND relation = ANY ($4::oid[])
   AND (NOT pg_visible_in_snapshot(xid, $2::pg_snapshot)
        OR xid IN (SELECT c.xid FROM ${S}.change c WHERE c.xid >= pg_snapshot_xmin($1::pg_snapshot)
                    GROUP BY c.xid HAVING max(c.seq) > $3::bigint))`

/** The numbers are qualified where they order: the columns of the answer have the same names, but are text. */
const EVENTS = `
SELECT c.xid::text, c.seq::text, c.relation::text, c.op,
       CASE WHEN octet_length(c.before) <= ${LARGEST_ROW_BYTES} THEN c.before END AS before,
       CASE WHEN octet_length(c.after) <= ${LARGEST_ROW_BYTES} THEN c.after END AS after,
       (greatest(octet_length(c.before), octet_length(c.after)) > ${LARGEST_ROW_BYTES})::text AS large
  FROM ${S}.change c
 WHERE c.xid = ANY ($1::xid8[]) AND c.relation = ANY ($2::oid[]) AND c.seq > $3::bigint
 ORDER BY c.xid, c.seq
 LIMIT $4`

const INSPECT = `
SELECT f.relations::text AS relations,
       array_to_json(f.shapes)::text AS shapes,
       array_to_json(array(SELECT (${SHAPE}) FROM unnest(f.relations) WITH ORDINALITY r(oid, place) ORDER BY place))::text AS now,
       (SELECT count(*) FROM unnest(f.relations) r(oid)
         WHERE EXISTS (SELECT FROM pg_catalog.pg_trigger t
                        WHERE t.tgrelid = r.oid AND t.tgname = '!constant_tide_row' AND t.tgenabled IN ('O', 'A')))::text AS guarded,
       (SELECT id::text FROM ${S}.installation) AS installation
  FROM ${S}.follower f WHERE f.id = $1`

/** One follower's reader. Keeps the listing it is working through, and what it knows of the capture. */
export class ChangeReader {
  private readonly pool: Pool
  private readonly follower: string
  private listing: Listing | undefined
  private at: string | undefined
  private relations: string[] = []
  private inspected = -Infinity

  constructor(pool: Pool, follower: string) {
    this.pool = pool
    this.follower = follower
  }

  async read(lanes: readonly SourceLane[], from: Position, asked: number): Promise<ChangeBatch> {
    const maxEvents = Math.min(asked, CHANGES_IN_AN_ANSWER)
    const place = parsePlace(from.at)
    if (performance.now() - this.inspected > INSPECT_EVERY_MS) await this.inspect(lanes, from)
    let listing = this.at === from.at ? this.listing : undefined
    const now = await this.now()
    if (!listing || listing.transactions.length === 0) {
      listing = await this.list(place, now)
      // What was written before the listing's snapshot was written in the shape that is found after it.
      if (listing.transactions.length > 0) await this.inspect(lanes, from)
    }
    const chosen = choose(listing.transactions, place, maxEvents)
    const { transactions, rest } = await this.events(lanes, chosen, place.within ?? 0n, maxEvents)
    const took = transactions.reduce((sum, transaction) => sum + transaction.events.length, 0)
    const left = listing.transactions.slice(rest === undefined ? chosen.length : 0)
    const pending = listing.pending - took
    const { seen, toward } = listing
    let next: ChangeTablePlace = { seen: toward }
    if (rest !== undefined) next = { seen, toward, last: place.last ?? 0n, within: rest }
    else if (left.length > 0 || listing.more) next = { seen, toward, last: chosen.at(-1)!.last }
    const at = printPlace(next)
    this.listing = { ...listing, transactions: left, pending }
    this.at = at
    return {
      transactions,
      to: { ...from, at },
      complete: rest === undefined,
      head: {
        now: now.clock,
        ...this.behind(listing, left, chosen, rest !== undefined),
        pendingChanges: pending,
      },
    }
  }

  /** What is known of the end of the listing; what was committed since it was made is not. */
  private behind(
    { takenAt, more }: Listing,
    left: readonly Listed[],
    chosen: readonly Listed[],
    cut: boolean,
  ): Pick<SourceHead, 'completeUpTo' | 'oldestPending'> {
    // Of those that were not listed it is known only that they come behind.
    const next = cut ? chosen[0] : (left[0] ?? (more ? chosen.at(-1) : undefined))
    if (next) return { completeUpTo: null, oldestPending: next.at }
    return { completeUpTo: takenAt, oldestPending: null }
  }

  async head(lanes: readonly SourceLane[], from: Position): Promise<SourceHead> {
    const { seen, toward, last } = parsePlace(from.at)
    if (performance.now() - this.inspected > INSPECT_EVERY_MS) await this.inspect(lanes, from)
    const relations = `{${this.relations.join(',')}}`
    const result = await this.pool.query(HEAD, [seen, toward ?? seen, String(last ?? 0n), relations])
    const { pending, oldest, now } = result.rows[0]
    return { now, completeUpTo: now, pendingChanges: Number(pending), oldestPending: oldest }
  }

  private async now(): Promise<{ snapshot: string; clock: string }> {
    const result = await this.pool.query(
      `SELECT pg_current_snapshot()::text AS snapshot, ${iso('statement_timestamp()')} AS clock`,
    )
    return result.rows[0]
  }

  private async list(place: ChangeTablePlace, now: { snapshot: string; clock: string }): Promise<Listing> {
    const toward = place.toward ?? now.snapshot
    const known = this.listing?.toward === toward ? this.listing.takenAt : null
    const last = String(place.last ?? 0n)
    const result = await this.pool.query(LIST, [place.seen, toward, last, `{${this.relations.join(',')}}`])
    return {
      seen: place.seen,
      toward,
      takenAt: place.toward === undefined ? now.clock : known,
      transactions: result.rows.map(row => ({
        xid: row.xid,
        last: BigInt(row.last),
        count: Number(row.count),
        at: row.at,
      })),
      more: result.rows.length === LIST_AT_ONCE,
      pending: Number(result.rows[0]?.pending ?? 0),
    }
  }

  /** The events of the chosen transactions; `rest` is where to go on when the only one was cut. */
  private async events(
    lanes: readonly SourceLane[],
    chosen: readonly Listed[],
    after: bigint,
    maxEvents: number,
  ): Promise<{ transactions: SourceTransaction[]; rest?: bigint }> {
    if (chosen.length === 0) return { transactions: [] }
    const laneOf = new Map(this.relations.map((oid, i) => [oid, i]))
    const result = await this.pool.query(EVENTS, [
      `{${chosen.map(one => one.xid).join(',')}}`,
      `{${this.relations.join(',')}}`,
      String(after),
      maxEvents + 1,
    ])
    const cut = result.rows.length > maxEvents
    const rows = cut ? result.rows.slice(0, maxEvents) : result.rows
    const byId = new Map<string, ChangeEvent[]>(chosen.map(one => [one.xid, []]))
    for (const row of rows) {
      const lane = laneOf.get(row.relation)!
      if (row.large === 'true') throw await this.tooLarge(lanes[lane]!, row.seq)
      byId.get(row.xid)!.push(decode(row, lane, lanes[lane]!))
    }
    return {
      transactions: chosen.map(one => ({ id: one.xid, at: one.at, events: byId.get(one.xid)! })),
      ...(cut ? { rest: BigInt(rows.at(-1)!.seq) } : {}),
    }
  }

  /** Which value of a change it is that cannot be read. */
  private async tooLarge({ dataset, columns, key }: SourceLane, seq: string): Promise<Failure> {
    const value = (name: string) => `(r.row).${ident(name)}::text`
    const result = await this.pool.query({
      text: `SELECT ${[
        ...key.map(name => `left(${value(name)}, 60)`),
        ...columns.map(({ source }) => `octet_length(${value(source)})::text`),
      ].join(', ')}
        FROM (SELECT coalesce(after, before)::${tableName(dataset)} AS row FROM ${S}.change WHERE seq = $1::bigint) r`,
      values: [seq],
      rowMode: 'array',
    })
    const found = result.rows[0] as string[]
    const [told, sizes] = [found.slice(0, key.length), found.slice(key.length).map(Number)]
    const largest = sizes.indexOf(Math.max(...sizes))
    return new Failure(
      'value',
      `${printName(dataset)}.${columns[largest]!.source}: a value of ${Math.round(sizes[largest]! / 2 ** 20)} MB is larger than can be carried (${LARGEST_ROW_BYTES / 2 ** 20} MB a row), in the row with ${key.map((name, i) => `${name} ${told[i]}`).join(', ')}.`,
      'Make the value smaller at the source, and start again: the tables are copied anew.',
    )
  }

  private async inspect(lanes: readonly SourceLane[], from: Position): Promise<void> {
    const result = await this.pool.query(INSPECT, [this.follower]).catch(error => {
      if (['42P01', '3F000'].includes(error.code)) return { rows: [] }
      throw error
    })
    const row = result.rows[0]
    if (!row || row.installation !== from.incarnation) {
      throw captureGone()
    }
    const before: string[] = JSON.parse(row.shapes)
    const now: (string | null)[] = JSON.parse(row.now)
    before.forEach((shape, i) => {
      if (shape === now[i]) return
      const name = printName(lanes[i]!.dataset)
      throw new Failure(
        'structural',
        now[i] === null
          ? `The table ${name} was dropped at the source.`
          : `The columns of ${name} were changed at the source.`,
        now[i] === null
          ? 'Leave it out in the setup, or create it again and start again.'
          : 'Start again: the tables are copied anew with the columns they have now.',
      )
    })
    if (Number(row.guarded) !== before.length) {
      throw new Failure(
        'structural',
        'A capture trigger was dropped or disabled at the source; changes since then are not known.',
        'Start again: the triggers are put back and the tables copied anew.',
      )
    }
    this.relations = row.relations.slice(1, -1).split(',')
    this.inspected = performance.now()
  }
}

/** Whole transactions up to `maxEvents` together; a longer one, or the rest of one, comes alone. */
function choose(listed: readonly Listed[], place: ChangeTablePlace, maxEvents: number): readonly Listed[] {
  if (place.within !== undefined) return listed.slice(0, 1)
  let sum = 0
  const end = listed.findIndex(({ count }, i) => (sum += count) > maxEvents && i > 0)
  return end === -1 ? listed : listed.slice(0, end)
}

interface ChangeRow {
  op: string
  before: string | null
  after: string | null
}

function decode(row: ChangeRow, lane: number, { dataset, columns }: SourceLane): ChangeEvent {
  const values = (text: string | null): Row => {
    const fields = parseComposite(text!)
    if (fields.length !== columns.length) {
      throw new Failure(
        'structural',
        `A change to ${printName(dataset)} has ${fields.length} columns where the pipeline knows ${columns.length}.`,
        'Start again: the tables are copied anew with the columns they have now.',
      )
    }
    return fields
  }
  switch (row.op) {
    case 'i':
      return { op: 'insert', lane, after: values(row.after) }
    case 'u':
      return { op: 'update', lane, before: values(row.before), after: values(row.after) }
    case 'd':
      return { op: 'delete', lane, before: values(row.before) }
    default:
      return { op: 'truncate', lane }
  }
}

/** Also when it goes between two inspections: then the change table itself is missing. */
export function captureGone(): Failure {
  return new Failure(
    'structural',
    'The change capture at the source is gone or was put there anew; changes since then are not known.',
    'Was the source restored or replaced? Start again: the tables are copied anew.',
  )
}

/** Forgets what every follower has seen. Returns how many changes went. */
export async function prune(pool: Pool, follower: string, seen: string): Promise<number> {
  parseSnapshot(seen)
  await pool.query(`UPDATE ${S}.follower SET seen = $2::pg_snapshot WHERE id = $1`, [follower, seen])
  const gone = await pool.query(`
    DELETE FROM ${S}.change c
     WHERE NOT EXISTS (SELECT FROM ${S}.follower f WHERE NOT pg_visible_in_snapshot(c.xid, f.seen))`)
  return gone.rowCount ?? 0
}
