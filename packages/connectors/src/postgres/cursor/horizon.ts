/** As far as a cursor may look: nobody can still commit rows with an earlier time. */
import { Failure } from '@tide/core/failure'
import type { Pool } from 'pg'
import { literal } from '../text.ts'

/** Times as they are compared and printed: of `timestamp` columns it is taken that they are UTC. */
export const iso = (expression: string) =>
  `to_char((${expression}) AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')`

/** Just before the oldest open transaction, whose rows may still come with its time, or some seconds ago. */
const HORIZON = (settleSeconds: number) => `
SELECT ${iso('clock_timestamp()')} AS now, ${iso(`least(
         clock_timestamp() - interval '${settleSeconds} seconds',
         (SELECT min(xact_start) - interval '1 microsecond' FROM pg_catalog.pg_stat_activity
           WHERE datname = current_database() AND pid <> pg_backend_pid() AND backend_type = 'client backend'))`)} AS horizon`

/** What is prepared may still commit rows with times of long ago, and nothing tells since when it has been open. */
const PREPARED = `
SELECT gid, to_char(prepared, 'YYYY-MM-DD HH24:MI:SS') AS since FROM pg_catalog.pg_prepared_xacts
 WHERE database = current_database() ORDER BY prepared LIMIT 1`

/** Fails, to be tried again, while a transaction is prepared. */
export async function horizonOf(
  pool: Pool,
  settleSeconds: number,
): Promise<{ now: string; horizon: string }> {
  const { rows } = await pool.query(HORIZON(settleSeconds))
  // Asked afterwards: what was prepared in between was open before, or is named here.
  const [prepared] = (await pool.query(PREPARED)).rows
  if (!prepared) return rows[0]
  throw new Failure(
    'transient',
    `The transaction ${prepared.gid}, prepared at ${prepared.since}, may still commit rows with earlier times; the cursor waits for it.`,
    `End it: COMMIT PREPARED ${literal(prepared.gid)}; or ROLLBACK PREPARED ${literal(prepared.gid)}; it goes on by itself then.`,
  )
}
