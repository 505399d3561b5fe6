/**
 * Whose sessions write at the target: each holds a named lock made of its pipeline and its own number. An engine that
 * was frozen keeps its locks on rows; who takes the pipeline over ends its sessions by it.
 */
import type { Session } from '../client.ts'
import { literal } from '../sql.ts'

const NAME = (pipeline: string, session: string) => `CONCAT('tide ', ${literal(pipeline)}, ' ', ${session})`

export function markOurs(pipeline: string): string {
  return `SELECT GET_LOCK(${NAME(pipeline, 'CONNECTION_ID()')}, 0)`
}

/** Ends the sessions that were opened to write for the pipeline; what they hold is let go within moments. */
export async function endOthers(session: Session, pipeline: string): Promise<void> {
  const others = await session.arrays(
    `SELECT id FROM information_schema.processlist
      WHERE id <> CONNECTION_ID() AND IS_USED_LOCK(${NAME(pipeline, 'id')}) = id`,
  )
  // One that has gone by itself meanwhile is as good.
  for (const [id] of others) await session.run(`KILL CONNECTION ${id}`).catch(() => {})
}
