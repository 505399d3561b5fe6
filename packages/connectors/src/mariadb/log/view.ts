/** Copies tables in one consistent snapshot, whose place in the log the server tells. */
import { csvLine } from '@tide/core/records/csv'
import type { Key, Value } from '@tide/core/records/value'
import type { CopyRange, CopyView, SourceLane } from '../../contract.ts'
import { Session } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { canonicalColumn, float32Text, ident, keyLiteral, tableName } from '../sql.ts'
import { positionAt, noLog } from './follow.ts'

const RANGE_ROWS = 50_000

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
      readers: 1,
      copy: (lane, after, signal) => copyRanges(session, lane, after, signal),
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
  lane: SourceLane,
  after: string | null,
  signal: AbortSignal,
): AsyncGenerator<CopyRange> {
  const columnOf = (name: string) => lane.columns.find(column => column.source === name)!
  const key = lane.key.map(columnOf)
  const order = key.map(({ source }) => ident(source)).join(', ')
  const texts = key
    .map(({ source, type, nativeType }) => canonicalColumn(source, type, nativeType))
    .join(', ')
  const from = tableName(lane.dataset)
  let start: Key | null = after === null ? null : JSON.parse(after)
  while (!signal.aborted) {
    const beyond = start ? compared(lane, start, '>') : 'TRUE'
    const [end] = await session.arrays(
      `SELECT ${texts} FROM ${from} WHERE ${beyond} ORDER BY ${order} LIMIT 1 OFFSET ${RANGE_ROWS - 1}`,
    )
    const upTo = (end as Key | undefined) ?? null
    const within = upTo ? `${beyond} AND ${compared(lane, upTo, '<=')}` : beyond
    const columns = lane.columns.map(({ source, type, nativeType }) =>
      canonicalColumn(source, type, nativeType),
    )
    const sql = `SELECT ${columns.join(', ')} FROM ${from} WHERE ${within}`
    yield { csv: csvOf(session, sql, floatColumns(lane)), upTo: upTo && JSON.stringify(upTo) }
    if (upTo === null) return
    start = upTo
  }
}

/** The order of keys written out, since servers do not use an index for rows compared as such. */
function compared(lane: SourceLane, value: Key, operator: '>' | '<='): string {
  const parts = lane.key.map((name, i) => {
    const { type, nativeType } = lane.columns.find(column => column.source === name)!
    return [ident(name), keyLiteral(value[i]!, type, nativeType)] as const
  })
  const strict = operator === '>' ? '>' : '<'
  const alternatives = parts.map(([column, literal], i) => {
    const before = parts.slice(0, i).map(([other, same]) => `${other} = ${same}`)
    const last = i === parts.length - 1 ? operator : strict
    return `(${[...before, `${column} ${last} ${literal}`].join(' AND ')})`
  })
  return `(${alternatives.join(' OR ')})`
}

function floatColumns(lane: SourceLane): number[] {
  return lane.columns.flatMap(({ type }, i) => (type.kind === 'float' && type.bits === 32 ? [i] : []))
}

async function* csvOf(session: Session, sql: string, floats: readonly number[]): AsyncGenerator<Uint8Array> {
  let lines: string[] = []
  for await (const row of session.stream(sql)) {
    lines.push(csvLine(canonicalRow(row, floats)))
    if (lines.length < 1000) continue
    yield Buffer.from(lines.join(''))
    lines = []
  }
  if (lines.length > 0) yield Buffer.from(lines.join(''))
}

export function canonicalRow(row: (string | null)[], floats: readonly number[]): Value[] {
  for (const i of floats) {
    const value = row[i]
    if (value !== null && value !== undefined) row[i] = float32Text(Math.fround(Number(value)))
  }
  return row
}
