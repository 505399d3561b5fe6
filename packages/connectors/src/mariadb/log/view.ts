/** Copies tables in one consistent snapshot, whose place in the log the server tells. */
import { prefilterOf } from '@tide/core/scope/prefilter'
import type { Key, Value } from '@tide/core/records/value'
import type { CopyRange, CopyView } from '../../contract/source.ts'
import type { KeyedTable } from '../../contract/records.ts'
import { Session } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { PREFILTER } from '../prefilter.ts'
import { csvOf, csvRow } from '../lines.ts'
import { canonicalColumn, float32Text, ident, keyLiteral, tableName } from '../sql.ts'
import { positionAt, noLog } from './follow.ts'

const RANGE_ROWS = 100_000
/** The one session reads one after another; the next is read while the one before is taken in. */
const IN_FLIGHT = 2

export async function openView(config: MariadbConfig): Promise<CopyView> {
  const session = await Session.open(config)
  try {
    await session.run('SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ')
    await session.run('START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY')
    // Of this snapshot, whatever is committed meanwhile.
    const status = new Map(
      (await session.arrays(`SHOW STATUS LIKE 'binlog_snapshot_%'`)).map(row => [
        row[0]!.toLowerCase(),
        row[1],
      ]),
    )
    const file = status.get('binlog_snapshot_file')
    if (!file) throw noLog()
    const position = await positionAt(session, file, Number(status.get('binlog_snapshot_position')))
    return {
      position,
      readers: IN_FLIGHT,
      copy: (table, after, signal) => copyRanges(session, table, after, signal),
      close: () => session.close(),
    }
  } catch (error) {
    session.destroy()
    throw error
  }
}

/** Ranges of the key, each as long as so many rows. */
async function* copyRanges(
  session: Session,
  table: KeyedTable,
  after: string | null,
  signal: AbortSignal,
): AsyncGenerator<CopyRange> {
  const columnOf = (name: string) => table.columns.find(column => column.name === name)!
  const key = table.key.map(columnOf)
  const order = key.map(({ name }) => ident(name)).join(', ')
  const texts = key.map(({ name, type, nativeType }) => canonicalColumn(name, type, nativeType)).join(', ')
  const from = tableName(table.dataset)
  const prefilter = table.where && prefilterOf(table.where, table.columns, PREFILTER)
  const wanted = prefilter === undefined ? '' : ` AND ${prefilter}`
  let start: Key | null = after === null ? null : JSON.parse(after)
  while (!signal.aborted) {
    const beyond = `${start ? compared(table, start, '>') : 'TRUE'}${wanted}`
    const [end] = await session.arrays(
      `SELECT ${texts} FROM ${from} WHERE ${beyond} ORDER BY ${order} LIMIT 1 OFFSET ${RANGE_ROWS - 1}`,
    )
    const upTo = (end as Key | undefined) ?? null
    const within = upTo ? `${beyond} AND ${compared(table, upTo, '<=')}` : beyond
    const sql = `SELECT ${csvRow(table.columns)} FROM ${from} WHERE ${within}`
    yield { csv: csvOf(session, sql, table), upTo: upTo && JSON.stringify(upTo) }
    if (upTo === null) return
    start = upTo
  }
}

/** The order of keys written out, since servers do not use an index for rows compared as such. */
function compared(table: KeyedTable, value: Key, operator: '>' | '<='): string {
  const parts = table.key.map((name, i) => {
    const { type, nativeType } = table.columns.find(column => column.name === name)!
    const literal = keyLiteral(value[i]!, type, nativeType)
    if (literal === undefined) throw new Error(`no value of a key: ${value[i]}`)
    return [ident(name), literal] as const
  })
  const strict = operator === '>' ? '>' : '<'
  const alternatives = parts.map(([column, literal], i) => {
    const before = parts.slice(0, i).map(([other, same]) => `${other} = ${same}`)
    const last = i === parts.length - 1 ? operator : strict
    return `(${[...before, `${column} ${last} ${literal}`].join(' AND ')})`
  })
  return `(${alternatives.join(' OR ')})`
}

export function canonicalRow(row: (string | null)[], floats: readonly number[]): Value[] {
  for (const i of floats) {
    const value = row[i]
    if (value !== null && value !== undefined) row[i] = float32Text(Math.fround(Number(value)))
  }
  return row
}
