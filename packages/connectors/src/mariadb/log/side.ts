import { Failure } from '@tide/core/failure'
import { datasetId, printName, type DatasetName } from '@tide/core/records/dataset'
import type { LogSide } from '../../contract/source.ts'
import { retentionOf } from '../../journal-settings.ts'
import { withSession, type Session } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { followBinlog, logEnd, refuseAnotherHistory } from './follow.ts'
import { openView } from './view.ts'

type Guard = <T>(work: Promise<T>) => Promise<T>

/** Nothing is kept at the source: its log is there for replicas, and each of them knows where it is. */
export function logSide(config: MariadbConfig, guard: Guard): LogSide {
  const within = <T>(body: (session: Session) => Promise<T>) => guard(withSession(config, body))
  return {
    retention: retentionOf(config),
    selectsTables: true,
    lateMs: 0,
    captureNote:
      'The source’s binary log is read as a replica reads it; nothing is installed there. It must keep its log for as long as we may be away (binlog_expire_logs_seconds). Commit times are told to the second.',
    captureStatements: async () => [],
    open: (_reader, tables) =>
      within(async session => {
        await refuseMissing(session, tables)
        return (await logEnd(session)).position
      }),
    extend: (_reader, tables) =>
      within(async session => {
        await refuseMissing(session, tables)
        return { position: (await logEnd(session)).position, added: [] }
      }),
    inspectHistory: (_reader, from) => within(session => refuseAnotherHistory(session, from)),
    inspectTables: (_reader, tables) => within(session => refuseMissing(session, tables)),
    close: async () => {},
    follow: (reader, { from, tables }, sink, signal) =>
      guard(followBinlog(config, reader, from, tables, sink, signal)),
    view: () => guard(openView(config)),
  }
}

async function refuseMissing(session: Session, tables: readonly DatasetName[]): Promise<void> {
  const rows = await session.rows<DatasetName>(
    `SELECT table_schema AS namespace, table_name AS name FROM information_schema.tables WHERE table_type = 'BASE TABLE'`,
  )
  const there = new Set(rows.map(datasetId))
  const missing = tables.filter(table => !there.has(datasetId(table)))
  if (missing.length === 0) return
  throw new Failure(
    'structural',
    `${missing.map(printName).join(', ')} ${missing.length === 1 ? 'is' : 'are'} not there any more.`,
    'Leave them out in the setup, or create them again at the source; then start again: the tables are copied anew.',
  )
}
