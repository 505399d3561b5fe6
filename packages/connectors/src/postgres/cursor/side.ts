import { Failure } from '@tide/core/failure'
import { parseCursorPlace, printCursorPlace } from '@tide/core/position/cursor'
import type { DatasetName } from '@tide/core/records/dataset'
import type { Pool } from 'pg'
import type { LogSide } from '../../contract/source.ts'
import { retentionOf } from '../../journal-settings.ts'
import type { PostgresConfig } from '../config.ts'
import { tableView } from '../copy.ts'
import { followCursor } from './follow.ts'
import { horizonOf } from './horizon.ts'
import { cursorTables } from './tables.ts'

const KIND = 'postgres cursor'

type Guard = <T>(work: Promise<T>) => Promise<T>

/** Changes by a column that says when a row was last written, where neither the log nor triggers can be had. */
export function cursorSide(pool: Pool, guard: Guard, config: PostgresConfig): LogSide {
  const { cursorColumn: column, cursorEverySeconds: every, cursorSettleSeconds: settle } = config
  const inspect = async (tables: readonly DatasetName[]): Promise<void> => {
    await cursorTables(pool, tables, column)
  }
  const positionNow = async (tables: readonly DatasetName[]) => {
    await inspect(tables)
    const { horizon } = await horizonOf(pool, settle)
    return { kind: KIND, incarnation: await incarnationOf(pool), at: printCursorPlace({ upTo: horizon }) }
  }
  return {
    retention: retentionOf(config),
    selectsTables: true,
    lateMs: (every + settle) * 1000,
    captureNote: `Nothing is installed; every ${every} seconds each table is asked for rows with a later ${column}, which should be indexed. Deletions, changed keys, and writes that leave ${column} as it is are not seen. New rows are counted as updated.`,
    captureStatements: async () => [],
    open: (_reader, tables) => guard(positionNow(tables)),
    extend: (_reader, tables) => guard(positionNow(tables).then(position => ({ position, added: [] }))),
    adopt: async (_reader, _followers, position) => ({
      ...position,
      at: printCursorPlace({ upTo: parseCursorPlace(position.at).upTo }),
    }),
    inspectHistory: (_reader, { incarnation }) =>
      guard(
        incarnationOf(pool).then(now => {
          if (now === incarnation) return
          throw new Failure(
            'structural',
            'The source is another database than the one that was copied.',
            'Was it restored or replaced? Start again: the tables are copied anew.',
          )
        }),
      ),
    inspectTables: (_reader, tables) => guard(inspect(tables)),
    close: async () => {},
    follow: (_reader, reading, sink, signal) => guard(followCursor(pool, config, reading, sink, signal)),
    view: async () => tableView(pool, 2, guard),
  }
}

/** The database itself; one that was restored elsewhere is another one. */
async function incarnationOf(pool: Pool): Promise<string> {
  const { rows } = await pool.query(
    `SELECT (SELECT system_identifier FROM pg_catalog.pg_control_system())::text AS system, oid::text FROM pg_catalog.pg_database WHERE datname = current_database()`,
  )
  return `${rows[0].system} ${rows[0].oid}`
}
