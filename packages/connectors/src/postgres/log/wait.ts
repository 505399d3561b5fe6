/** Making a slot waits for every transaction that was open before. */
import type { Pool } from 'pg'
import type { TellWait } from '../../contract.ts'

const LOOK_MS = 2_000

/** While `work`, done by the server's process `pid`, takes its time, tells for whom it waits. */
export async function tellingWait<T>(
  pool: Pool,
  pid: number,
  tell: TellWait | undefined,
  work: Promise<T>,
): Promise<T> {
  if (!tell) return work
  const looking = setInterval(() => {
    // That nobody can be named does not keep the work from ending.
    blockers(pool, pid).then(
      told => told && tell(told),
      () => {},
    )
  }, LOOK_MS)
  try {
    return await work
  } finally {
    clearInterval(looking)
  }
}

async function blockers(pool: Pool, pid: number) {
  const { rows } = await pool.query<{ pid: string; who: string | null; since: string | null }>(
    `SELECT pid, usename || coalesce(' (' || nullif(application_name, '') || ')', '') AS who,
            to_char(xact_start, 'YYYY-MM-DD HH24:MI:SS') AS since
       FROM pg_catalog.pg_stat_activity WHERE pid = ANY (pg_blocking_pids($1::int)) ORDER BY xact_start`,
    [pid],
  )
  if (rows.length === 0) return undefined
  const named = rows.map(
    row => `process ${row.pid}, ${row.who ?? 'unknown'}, since ${row.since ?? 'unknown'}`,
  )
  return {
    message: `PostgreSQL makes a slot only when transactions that were open before have ended: ${named.join('; ')}.`,
    remedy: `It goes on by itself then. To end one, which rolls it back: SELECT pg_terminate_backend(${rows[0]!.pid});`,
  }
}
