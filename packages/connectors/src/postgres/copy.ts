import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { keyOf, type Key } from '@tide/core/records/value'
import type { Pool } from 'pg'
import type { KeyedTable } from '../contract/records.ts'
import type { CopyRange, CopyView } from '../contract/source.ts'
import { lastFields } from '../csv-fields.ts'
import { inTransaction } from './transaction.ts'
import { tableName } from './catalogue.ts'
import { copyOut } from './copy-out.ts'
import { prefiltered } from './prefilter.ts'
import { ident, literal, PINNED_SETTINGS } from './text.ts'

/** A range should keep a one-session source busy for about this long, so that nobody waits for us noticeably. */
const RANGE_MILLISECONDS = 200
const FIRST_RANGE_ROWS = 10_000
const MOST_RANGE_ROWS = 100_000

/** Makes a transaction print values as canonical text. */
export const PIN = Object.entries(PINNED_SETTINGS)
  .filter(([name]) => name !== 'search_path')
  .map(([name, value]) => `SET LOCAL ${name} = ${literal(value)}`)
  .join('; ')

/**
 * Reads a table in key order, range by range, each in a short transaction of its own. Rows that move while the copy
 * goes on are missed or read twice; following from a position before the copy puts that right.
 */
async function* copyRanges(
  pool: Pool,
  { dataset, columns, key: names, where }: KeyedTable,
  after: string | null,
  signal: AbortSignal,
): AsyncGenerator<CopyRange> {
  const from = `ONLY ${tableName(dataset)}`
  const key = names.map(ident)
  const order = key.join(', ')
  const keyIndexes = names.map(name => columns.findIndex(column => column.name === name))
  const list = columns.map(({ name }) => ident(name)).join(', ')
  const types = keyIndexes.map(i => columns[i]!.nativeType)
  const bound = (value: Key) => `(${value.map((part, i) => `${literal(part)}::${types[i]}`).join(', ')})`
  const wanted = prefiltered(where, columns, ' AND ')
  let rangeRows = FIRST_RANGE_ROWS
  let start: Key | null = after === null ? null : JSON.parse(after)
  while (!signal.aborted) {
    const began = performance.now()
    const beyond = `${start ? `(${order}) > ${bound(start)}` : 'true'}${wanted}`
    // Into memory, so that the transaction is over before anybody waits for the target.
    const { csv, stream } = await inTransaction(pool, async client => {
      await client.query(PIN)
      const rows = `SELECT ${list} FROM ${from} WHERE ${beyond} ORDER BY ${order} LIMIT ${rangeRows}`
      const stream = copyOut(client, `COPY (${rows}) TO STDOUT (FORMAT csv)`)
      const csv: Uint8Array[] = []
      for await (const part of stream) csv.push(part)
      return { csv, stream }
    })
    // Where the range ends is told by its last row, which costs the source nothing more.
    const upTo: Key | null = stream.rowCount < rangeRows ? null : keyOf(lastFields(csv), keyIndexes)
    yield { csv, upTo: upTo && JSON.stringify(upTo) }
    if (upTo === null) return
    start = upTo
    rangeRows = nextRangeRows(rangeRows, performance.now() - began)
  }
}

/** Tables as they stand when each range is read. */
export function tableView(pool: Pool, readers: number, guard: <T>(work: Promise<T>) => Promise<T>): CopyView {
  return {
    position: null,
    readers,
    async *copy(table, after, signal) {
      try {
        yield* copyRanges(pool, table, after, signal)
      } catch (error) {
        const { code } = error as { code?: string }
        if (code === '42P01') throw gone(table.dataset, error)
        return await guard(Promise.reject(error))
      }
    },
    close: async () => {},
  }
}

function gone(table: DatasetName, cause: unknown): Failure {
  return new Failure(
    'structural',
    `The table ${printName(table)} is not there any more.`,
    'Leave it out in the setup, or create it again at the source and start again.',
    cause,
  )
}

/** Towards the wanted duration, but by no more than a factor of two at a time. */
function nextRangeRows(rows: number, milliseconds: number): number {
  const wanted = rows * (RANGE_MILLISECONDS / Math.max(1, milliseconds))
  return Math.round(Math.min(MOST_RANGE_ROWS, rows * 2, Math.max(100, rows / 2, wanted)))
}
