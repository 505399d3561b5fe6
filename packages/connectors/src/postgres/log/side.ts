import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { Pool } from 'pg'
import type { LogSide } from '../../contract/source.ts'
import { retentionOf } from '../../journal-settings.ts'
import type { PostgresConfig } from '../config.ts'
import { followSlot, refuseAnotherHistory } from './follow.ts'
import {
  closeSlot,
  currentPosition,
  hasSlot,
  openSlot,
  publicationStatements,
  publish,
  slotName,
  slotStatement,
  unpublished,
} from './slot.ts'
import { openView } from './view.ts'

type Guard = <T>(work: Promise<T>) => Promise<T>

export function logSide(config: PostgresConfig, pool: Pool, guard: Guard): LogSide {
  return {
    retention: retentionOf(config),
    selectsTables: false,
    lateMs: 0,
    captureNote:
      'The source keeps its log until our journal has it: while nothing reads the slot, its disk fills. Stopping the last pipeline on this connection removes slot and publication.',
    captureStatements: (reader, tables) => guard(captureStatements(pool, reader, tables)),
    open: (reader, tables, patience) => guard(openSlot(config, pool, reader, tables, patience)),
    extend: (reader, tables) =>
      guard(
        publish(pool, reader, tables).then(async added => ({
          position: await currentPosition(config, pool),
          added,
        })),
      ),
    inspectHistory: (reader, from) => guard(refuseAnotherHistory(config, pool, reader, from)),
    close: reader => guard(closeSlot(pool, reader)),
    follow: (reader, { from }, sink, signal) => guard(followSlot(config, pool, reader, from, sink, signal)),
    view: (_reader, patience) => guard(openView(config, pool, patience)),
    inspectTables: async (reader, tables) => {
      const missing = await guard(unpublished(pool, reader, tables))
      if (missing.length === 0) return
      const names = missing.map(printName).join(', ')
      throw new Failure(
        'structural',
        `The source’s log no longer tells of ${names}: dropped, made anew, or taken out of the publication ${slotName(reader)}.`,
        'Start again: what is there is published and copied anew.',
      )
    },
  }
}

async function captureStatements(
  pool: Pool,
  reader: string,
  tables: readonly DatasetName[],
): Promise<string[]> {
  const publication = await publicationStatements(pool, reader, tables)
  return (await hasSlot(pool, reader)) ? publication : [...publication, slotStatement(reader)]
}
