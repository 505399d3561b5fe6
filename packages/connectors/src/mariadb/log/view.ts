/** Copies tables in one consistent snapshot, whose place in the log the server tells. */
import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { prefilterOf } from '@tide/core/scope/prefilter'
import type { Key, Value } from '@tide/core/records/value'
import type { CopyRange, CopyView } from '../../contract/source.ts'
import type { KeyedTable } from '../../contract/records.ts'
import { Session } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { PREFILTER } from '../prefilter.ts'
import { canonicalColumn, float32Text, ident, keyLiteral, tableName } from '../sql.ts'
import { positionAt, noLog } from './follow.ts'

const RANGE_ROWS = 100_000
/** The one session reads one after another; the next is read while the one before is taken in. */
const IN_FLIGHT = 2
const PART_BYTES = 256 * 1024

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
    const sql = `SELECT ${csvRow(table)} FROM ${from} WHERE ${within}`
    yield { csv: csvOf(session, sql, table), upTo: upTo && JSON.stringify(upTo) }
    if (upTo === null) return
    start = upTo
  }
}

/** The order of keys written out, since servers do not use an index for rows compared as such. */
function compared(table: KeyedTable, value: Key, operator: '>' | '<='): string {
  const parts = table.key.map((name, i) => {
    const { type, nativeType } = table.columns.find(column => column.name === name)!
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

/** Types whose canonical text holds nothing that CSV would have to quote. */
const PLAIN = new Set(['int', 'decimal', 'float', 'bool', 'date', 'timestamp', 'binary', 'uuid'])
/** Types that are printed as canonical text by themselves, and never at length. */
const BY_ITSELF = new Set(['int', 'decimal', 'float', 'date'])

/** A whole row as a line of CSV: the server puts it together faster than we could, field by field. */
function csvRow(table: KeyedTable): string {
  const fields = table.columns.map(({ name, type, nativeType }) => {
    const column = ident(name)
    const text = canonicalColumn(name, type, nativeType)
    const single = type.kind === 'float' && type.bits === 32
    if (BY_ITSELF.has(type.kind) && !single)
      return `IFNULL(${/^(bit|year)/.test(nativeType) ? text : column}, '')`
    if (PLAIN.has(type.kind)) return `IF(${column} IS NULL, '', ${text})`
    return `IF(${column} IS NULL, '', CONCAT('"', REPLACE(${text}, '"', '""'), '"'))`
  })
  return `CONCAT(${fields.join(`, ',', `)}, '\\n')`
}

async function* csvOf(session: Session, sql: string, { dataset }: KeyedTable): AsyncGenerator<Uint8Array> {
  let [lines, bytes]: [Buffer[], number] = [[], 0]
  for await (const [line] of session.buffers(sql)) {
    if (!line) throw tooLarge(dataset)
    lines.push(line)
    bytes += line.length
    if (bytes < PART_BYTES) continue
    yield Buffer.concat(lines, bytes)
    ;[lines, bytes] = [[], 0]
  }
  if (bytes > 0) yield Buffer.concat(lines, bytes)
}

/** What a server puts together and finds too large is NULL to it. */
function tooLarge(dataset: DatasetName): Failure {
  return new Failure(
    'value',
    `${printName(dataset)} holds a row that is larger than the source’s max_allowed_packet, as text.`,
    'Raise max_allowed_packet at the source to more than twice the largest row, then continue.',
  )
}

export function canonicalRow(row: (string | null)[], floats: readonly number[]): Value[] {
  for (const i of floats) {
    const value = row[i]
    if (value !== null && value !== undefined) row[i] = float32Text(Math.fround(Number(value)))
  }
  return row
}
