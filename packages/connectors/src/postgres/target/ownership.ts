/**
 * Whose transactions are under way at the target: each holds a shared advisory lock in its pipeline's name. An engine
 * that was frozen keeps its locks on rows and tables; who takes the pipeline over ends its transactions by it.
 */
import type { Pool } from 'pg'
import { literal } from '../text.ts'

/** "tide", so that nobody else's advisory locks are met. */
const CLASS = 0x74696465

/** A statement for the beginning of a transaction. */
export function markOurs(pipeline: string): string {
  return `SELECT pg_advisory_xact_lock_shared(${CLASS}, hashtext(${literal(pipeline)}))`
}

/** A statement by which those who make schemas and tables go one after another: two of them would both make the same one. */
export const MAKE_ALONE = `SELECT pg_advisory_xact_lock(${CLASS}, hashtext('make'))`

/** Ends the sessions that have a transaction under way for the pipeline; what they hold is let go within moments. */
export async function endOthers(pool: Pool, pipeline: string): Promise<void> {
  await pool.query(
    `SELECT pg_terminate_backend(pid) FROM pg_catalog.pg_locks
      WHERE locktype = 'advisory' AND classid = ${CLASS} AND objid::bigint = hashtext($1)::bigint & 4294967295 AND objsubid = 2
        AND database = (SELECT oid FROM pg_catalog.pg_database WHERE datname = current_database()) AND pid <> pg_backend_pid()`,
    [pipeline],
  )
}
