/** Making a slot waits for every transaction that was open before. */
import type { Pool } from 'pg'
import type { Patience } from '../../contract/source.ts'

const LOOK_MS = 2_000

/** While `work`, done by the server's process `pid`, takes its time, tells for whom it waits; ends it when that is asked. */
export async function withPatience<T>(
  pool: Pool,
  pid: number,
  patience: Patience | undefined,
  work: Promise<T>,
): Promise<T> {
  if (!patience) return work
  const { tell, signal } = patience
  // Neither that nobody can be named nor that it has just ended keeps the work from its end.
  const look = () =>
    void blockers(pool, pid).then(
      told => told && tell(told),
      () => {},
    )
  const cancel = () => void pool.query('SELECT pg_cancel_backend($1::int)', [pid]).catch(() => {})
  const looking = setInterval(look, LOOK_MS)
  signal.addEventListener('abort', cancel)
  if (signal.aborted) cancel()
  try {
    return await work
  } finally {
    clearInterval(looking)
    signal.removeEventListener('abort', cancel)
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
