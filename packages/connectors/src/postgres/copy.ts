import { keyOf, type Key } from '@tide/core/records/value'
import type { Pool } from 'pg'
import type { CopyRange, SourceLane } from '../contract.ts'
import { lastFields } from '../csv-fields.ts'
import { inTransaction } from './capture.ts'
import { tableName } from './catalogue.ts'
import { copyOut } from './copy-out.ts'
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
export async function* copyRanges(
  pool: Pool,
  lane: SourceLane,
  after: string | null,
  signal: AbortSignal,
): AsyncGenerator<CopyRange> {
  const from = `ONLY ${tableName(lane.dataset)}`
  const key = lane.key.map(ident)
  const order = key.join(', ')
  const keyIndexes = lane.key.map(name => lane.columns.findIndex(column => column.source === name))
  const columns = lane.columns.map(({ source }) => ident(source)).join(', ')
  const types = lane.key.map(name => lane.columns.find(column => column.source === name)!.nativeType)
  const bound = (value: Key) => `(${value.map((part, i) => `${literal(part)}::${types[i]}`).join(', ')})`
  let rangeRows = FIRST_RANGE_ROWS
  let start: Key | null = after === null ? null : JSON.parse(after)
  while (!signal.aborted) {
    const began = performance.now()
    const beyond = start ? `(${order}) > ${bound(start)}` : 'true'
    // Into memory, so that the transaction is over before anybody waits for the target.
    const { csv, stream } = await inTransaction(pool, async client => {
      await client.query(PIN)
      const rows = `SELECT ${columns} FROM ${from} WHERE ${beyond} ORDER BY ${order} LIMIT ${rangeRows}`
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

/** Towards the wanted duration, but by no more than a factor of two at a time. */
function nextRangeRows(rows: number, milliseconds: number): number {
  const wanted = rows * (RANGE_MILLISECONDS / Math.max(1, milliseconds))
  return Math.round(Math.min(MOST_RANGE_ROWS, rows * 2, Math.max(100, rows / 2, wanted)))
}
