/** The rows that are sent: of a table, or of a question. */
import type { Session } from '@tide/connectors/contract/session'
import type { SendDefinition } from '@tide/core/definition/send'
import { withParameters } from '@tide/core/definition/query-parameters'
import { Failure } from '@tide/core/failure'
import { printName } from '@tide/core/records/dataset'
import { answerType } from '@tide/core/send/answer-type'
import type { SentColumn } from '@tide/core/send/mapped'
import type { SavedQueries } from '../../repositories.ts'

const BATCH_ROWS = 1_000
const READ_MS = 3_600_000

export interface SentSource {
  columns: SentColumn[]
  /** All rows, in canonical text. */
  rows(signal: AbortSignal): AsyncGenerator<(string | null)[][]>
}

/** Throws a Failure for what is not there any more, or cannot be asked. */
export async function sourceOfSend(
  { what }: Pick<SendDefinition, 'what'>,
  session: Session,
  queries: SavedQueries,
  signal: AbortSignal,
): Promise<SentSource> {
  if (!what)
    throw new Failure('refused', 'It is not said what is sent.', 'Choose a query or a table in the setup.')
  if ('table' in what) return tableSource(session, what.table)
  const { quoting = 'plain' } = session
  if ('sql' in what) return querySource(session, withParameters(what.sql, [], {}, quoting), signal)
  const saved = await queries.get(what.query)
  if (!saved)
    throw new Failure(
      'structural',
      'The saved query is not there any more.',
      'Choose another one in the setup.',
    )
  return querySource(session, withParameters(saved.sql, saved.parameters, what.values ?? {}, quoting), signal)
}

async function tableSource(
  session: Session,
  table: { namespace: string; name: string },
): Promise<SentSource> {
  const { datasets } = await session.catalogue()
  const dataset = datasets.find(({ namespace, name }) => namespace === table.namespace && name === table.name)
  if (!dataset)
    throw new Failure(
      'structural',
      `${printName(table)} is not at the source any more.`,
      'Choose another table in the setup.',
    )
  if (!session.scan)
    throw new Failure('structural', 'Rows of this source cannot be read.', 'Choose another connection.')
  const scan = session.scan.bind(session)
  return {
    columns: dataset.fields,
    rows: async function* (signal) {
      const limits = { batchRows: BATCH_ROWS, timeoutMs: READ_MS, signal }
      for await (const rows of scan({ dataset: table, columns: dataset.fields }, limits))
        yield rows as (string | null)[][]
    },
  }
}

/** The question is asked once for its columns, of which no row is taken, and again for its rows. */
async function querySource(session: Session, sql: string, signal: AbortSignal): Promise<SentSource> {
  if (!session.stream)
    throw new Failure(
      'refused',
      'SQL does not run on this connection.',
      'Send one of its tables, or choose another.',
    )
  const stream = session.stream.bind(session)
  const limits = (ends: AbortSignal) => ({ batchRows: BATCH_ROWS, timeoutMs: READ_MS, signal: ends })
  let columns: SentColumn[] = []
  for await (const batch of stream(sql, limits(signal))) {
    columns = batch.columns.map(({ name, type }) => ({ name, type: answerType(type), nullable: true }))
    break
  }
  const names = columns.map(({ name }) => name)
  const twice = names.find((name, i) => names.indexOf(name) !== i)
  if (twice !== undefined)
    throw new Failure(
      'refused',
      `The query has two columns called “${twice}”.`,
      'Give one of them another name with AS.',
    )
  return {
    columns,
    rows: async function* (ends) {
      for await (const { rows } of stream(sql, limits(ends))) yield rows
    },
  }
}
