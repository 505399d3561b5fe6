import { Failure } from '@tide/core/failure'
import { compareSnapshots, parsePlace } from '@tide/core/position/snapshot'
import type { Position } from '@tide/core/position/position'
import type { Pool } from 'pg'
import type { LogSide } from '../../contract/source.ts'
import { retentionOf } from '../../journal-settings.ts'
import type { PostgresConfig } from '../config.ts'
import { tableView } from '../copy.ts'
import { install, installationId, installStatements, takeOver, uninstall } from './capture.ts'
import { followChangeTable } from './follow.ts'
import { captureGone, lookAtCapture, refuseUnwatched } from './watched.ts'

type Guard = <T>(work: Promise<T>) => Promise<T>

/** Changes from a table at the source that triggers fill, where its log is out of reach. */
export function triggerSide(config: PostgresConfig, pool: Pool, guard: Guard): LogSide {
  const positionAt = async (seen: string): Promise<Position> => {
    const incarnation = await installationId(pool)
    if (!incarnation) throw captureGone()
    return { kind: 'postgres change table', incarnation, at: seen }
  }
  return {
    retention: retentionOf(config),
    selectsTables: true,
    lateMs: 0,
    captureNote:
      'A change table and two triggers a table, taken off again with the last pipeline. Each written row costs the source one more insert. Sessions with session_replication_role = replica bypass the triggers.',
    captureStatements: (_reader, tables) => guard(installStatements(pool, tables)),
    open: (reader, tables) => guard(install(pool, reader, tables, true).then(({ seen }) => positionAt(seen))),
    extend: (reader, tables) =>
      guard(
        install(pool, reader, tables, false).then(async ({ seen, added }) => ({
          position: await positionAt(seen),
          added,
        })),
      ),
    adopt: (reader, followers, position) =>
      guard(
        (async () => {
          const ids = followers.map(({ id }) => id)
          const seen = await takeOver(pool, reader, ids)
          if (seen === undefined || (await installationId(pool)) !== position.incarnation) throw captureGone()
          return positionAt(seen)
        })(),
      ),
    inspectHistory: (reader, from) =>
      guard(
        (async () => {
          const { seen, installation } = await lookAtCapture(pool, reader)
          if (installation !== from.incarnation) throw captureGone()
          if (compareSnapshots(seen, parsePlace(from.at).seen) !== 'after') return
          throw new Failure(
            'structural',
            'The change table at the source no longer holds what follows the end of our journal: somebody else has read it in our name.',
            'Was the data folder restored? Start again: the tables are copied anew.',
          )
        })(),
      ),
    inspectTables: (reader, tables) =>
      guard(lookAtCapture(pool, reader).then(capture => refuseUnwatched(capture, tables))),
    close: reader => guard(uninstall(pool, reader)),
    follow: (reader, reading, sink, signal) =>
      guard(followChangeTable(pool, reader, reading, sink, signal).catch(lost)),
    // One is read while another loads and a third waits for its turn.
    view: async () => tableView(pool, 3, guard),
  }
}

/** What reads the change table and finds none has lost its capture. */
function lost(error: { code?: string }): never {
  throw ['42P01', '3F000'].includes(error.code ?? '') ? captureGone() : error
}
