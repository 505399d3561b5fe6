/**
 * What the change table holds from one snapshot to a later one: the transactions that the new one sees and the
 * old one does not, ordered by their highest sequence number. Where two transactions touched one row, its lock has
 * put the numbers in commit order; elsewhere the order does not matter.
 */
import type { ChangeTablePlace } from '@tide/core/position/snapshot'
import type { Pool } from 'pg'
import { CAPTURE_SCHEMA } from '../catalogue.ts'

const S = CAPTURE_SCHEMA

/** At most so many transactions are listed at once. */
export const LIST_AT_ONCE = 10_000

/** A text holds about twice that; rows of a log have the same bound. */
export const LARGEST_ROW_BYTES = 256 * 2 ** 20

export interface Listed {
  xid: string
  /** Its highest sequence number. */
  last: bigint
  /** Changes of followed tables in it. */
  count: number
  /** When its last statement ran, in microseconds since 1970. */
  at: number
}

export const MICROSECONDS = (expression: string) =>
  `(extract(epoch FROM ${expression}) * 1000000)::bigint::text`

const LIST = `
SELECT t.xid::text, t.last::text, t.count::text, ${MICROSECONDS('t.at')} AS at
  FROM (SELECT xid, max(seq) AS last, max(at) AS at, count(*) FILTER (WHERE relation = ANY ($4::oid[])) AS count
          FROM ${S}.change
         WHERE xid >= pg_snapshot_xmin($1::pg_snapshot)
           AND NOT pg_visible_in_snapshot(xid, $1::pg_snapshot)
           AND pg_visible_in_snapshot(xid, $2::pg_snapshot)
         GROUP BY xid) t
 WHERE t.last > $3::bigint AND t.count > 0
 ORDER BY t.last
 LIMIT ${LIST_AT_ONCE}`

/** Transactions on the way to a snapshot; as many as are listed at once, there may be more. */
export async function list(
  pool: Pool,
  { seen, toward, last = 0n }: ChangeTablePlace & { toward: string },
  relations: readonly string[],
): Promise<Listed[]> {
  const { rows } = await pool.query(LIST, [seen, toward, String(last), relations])
  return rows.map(row => ({
    xid: row.xid,
    last: BigInt(row.last),
    count: Number(row.count),
    at: Number(row.at),
  }))
}

export interface Recorded {
  xid: string
  seq: string
  relation: string
  op: 'i' | 'u' | 'd' | 't'
  before: string | null
  after: string | null
  /** It is too large to be read. */
  large: 't' | 'f'
}

/** The numbers are qualified where they order: the columns of the answer have the same names, but are text. */
const CHANGES = `
SELECT c.xid::text, c.seq::text, c.relation::text, c.op,
       CASE WHEN octet_length(c.before) <= ${LARGEST_ROW_BYTES} THEN c.before END AS before,
       CASE WHEN octet_length(c.after) <= ${LARGEST_ROW_BYTES} THEN c.after END AS after,
       coalesce(greatest(octet_length(c.before), octet_length(c.after)) > ${LARGEST_ROW_BYTES}, false) AS large
  FROM ${S}.change c
 WHERE c.xid = ANY ($1::xid8[]) AND c.relation = ANY ($2::oid[]) AND c.seq > $3::bigint
 ORDER BY c.xid, c.seq
 LIMIT $4`

/** Changes of these transactions, one after another, behind a sequence number; at most so many. */
export async function changesOf(
  pool: Pool,
  transactions: readonly Listed[],
  relations: readonly string[],
  after: bigint,
  most: number,
): Promise<Recorded[]> {
  const ids = transactions.map(({ xid }) => xid)
  return (await pool.query<Recorded>(CHANGES, [ids, relations, String(after), most])).rows
}
