/** Rows of a DuckDB file in canonical text: single ones by their keys, and all of a table in the order of its key. */
import type { Key, Row } from '@tide/core/records/value'
import type { KeyedTable, OrderedTable } from '../contract/records.ts'
import type { StreamLimits } from '../contract/session.ts'
import { randomUUID } from 'node:crypto'
import { createReadStream } from 'node:fs'
import { rm } from 'node:fs/promises'
import { join } from 'node:path'
import type { DuckdbConnection, HostValue } from './host.ts'
import { canonicalText, ident, literal, tableName, typedValue } from './sql.ts'

const KEYS_AT_ONCE = 2_000
/** Of an ordered table, about so much is sorted and written at once. */
const RANGE_BYTES = 8 * 2 ** 20
const [LEAST_RANGE_ROWS, MOST_RANGE_ROWS] = [100, 500_000]
/** By so many rows it is estimated how large they are. */
const LOOKED_AT_ROWS = 1_000
const PART_BYTES = 256 * 1024

/** The row of this key, or the last in key order. */
export async function readRow(
  connection: DuckdbConnection,
  table: KeyedTable,
  key: Key | null,
): Promise<Row | null> {
  const last = `TRUE ORDER BY ${table.key.map(part => `${ident(part)} DESC`).join(', ')} LIMIT 1`
  const [row] = key ? await readRows(connection, table, [key]) : await select(connection, table, last)
  return row ?? null
}

export async function readRows(
  connection: DuckdbConnection,
  table: KeyedTable,
  keys: readonly Key[],
): Promise<Row[]> {
  const { key } = table
  const asked = key.map((part, i) => {
    const { type, nativeType } = columnOf(table, part)
    return `TRY(${typedValue(`k${i}`, type, nativeType)})`
  })
  const named = key.map((_, i) => `k${i}`).join(', ')
  const rows: Row[] = []
  for (let at = 0; at < keys.length; at += KEYS_AT_ONCE) {
    const some = keys.slice(at, at + KEYS_AT_ONCE)
    const values = some.map(parts => `(${parts.map(literal).join(', ')})`).join(', ')
    const where = `(${key.map(ident).join(', ')}) IN (SELECT (${asked.join(', ')}) FROM (VALUES ${values}) asked(${named}))`
    rows.push(...(await select(connection, table, where)))
  }
  return rows
}

async function select(
  connection: DuckdbConnection,
  { dataset, columns, only }: KeyedTable,
  where: string,
): Promise<Row[]> {
  // In hexadecimal digits, since the driver takes a mark at the beginning of a text (U+FEFF) for none of it.
  const list = columns
    .map(column => `hex(encode(${canonicalText(ident(column.name), column.type, column.nativeType)}))`)
    .join(', ')
  const rows = await connection.ask(
    `SELECT ${list} FROM ${tableName(dataset)} WHERE ${onlyThese(only)} AND ${where}`,
  )
  return rows.map(row => row.map(textOf))
}

function textOf(digits: HostValue): string | null {
  return digits === null ? null : Buffer.from(String(digits), 'hex').toString()
}

/**
 * As CSV, by way of files in the staging folder. Ranges of the key come one after another, in one transaction, so that no more than
 * one must be sorted at once; the next is written while one is read.
 */
export async function* readOrdered(
  connection: DuckdbConnection,
  table: OrderedTable,
  staging: string,
  limits: Omit<StreamLimits, 'batchRows'>,
): AsyncGenerator<Uint8Array> {
  const { dataset, columns, key, order, quoted, only, most } = table
  const parts = key.map((name, i) => {
    const { type, nativeType } = columnOf(table, name)
    const text = canonicalText(ident(name), type, nativeType)
    return order[i] === 'text'
      ? { by: text, text, bound: (value: string) => literal(value) }
      : { by: ident(name), text, bound: (value: string) => typedValue(literal(value), type, nativeType) }
  })
  const by = parts.map(part => part.by).join(', ')
  const list = columns.map(
    ({ name, type, nativeType }, i) => `${canonicalText(ident(name), type, nativeType)} AS c${i}`,
  )
  const inQuotes = columns.flatMap((_, i) => (quoted[i] ? [`c${i}`] : []))
  const force = inQuotes.length > 0 ? `, FORCE_QUOTE (${inQuotes.join(', ')})` : ''
  const bound = (end: readonly string[]) => `(${parts.map((part, i) => part.bound(end[i]!)).join(', ')})`
  const between = (after: Key | undefined, upTo: Key | undefined) =>
    `${after ? ` AND (${by}) > ${bound(after)}` : ''}${upTo ? ` AND (${by}) <= ${bound(upTo)}` : ''}`
  const all = `FROM ${tableName(dataset)} WHERE ${onlyThese(only)}${between(table.after, table.upTo)}`
  const from = most === undefined ? all : `FROM (SELECT * ${all} ORDER BY ${by} LIMIT ${most}) WHERE TRUE`
  const ends = async () => {
    const size = columns.map((_, i) => `coalesce(strlen(CAST(c${i} AS VARCHAR)), 0)`).join(' + ')
    const [looked] = await connection.ask(
      `SELECT avg(${size})::VARCHAR FROM (SELECT ${list.join(', ')} ${from} LIMIT ${LOOKED_AT_ROWS})`,
    )
    const rows = Math.round(RANGE_BYTES / Math.max(1, Number(looked?.[0] ?? 1)))
    const found = await connection.ask(
      `SELECT ${parts.map((_, i) => `hex(encode(k${i}))`).join(', ')}
         FROM (SELECT ${parts.map(({ text }, i) => `${text} AS k${i}`).join(', ')}, row_number() OVER (ORDER BY ${by}) AS n ${from})
        WHERE n % ${Math.min(MOST_RANGE_ROWS, Math.max(LEAST_RANGE_ROWS, rows))} = 0 ORDER BY n`,
    )
    return found.map(row => row.map(digits => textOf(digits)!))
  }
  const written = async (after: Key | undefined, upTo: Key | undefined) => {
    const file = join(staging, `ordered-${randomUUID()}.csv`)
    const rows = `SELECT ${list.join(', ')} ${from}${between(after, upTo)} ORDER BY ${by}`
    await connection.run(`COPY (${rows}) TO ${literal(file)} (FORMAT csv, HEADER false${force})`)
    return file
  }
  yield* connection.reading(async function* () {
    const places = [undefined, ...(await ends()), undefined]
    let next: Promise<string> | undefined
    try {
      for (let i = 1; i <= places.length; i++) {
        const file = await next
        next = i < places.length ? written(places[i - 1], places[i]) : undefined
        next?.catch(() => {}) // whoever wants it hears of it above
        if (file === undefined) continue
        yield* createReadStream(file, { highWaterMark: PART_BYTES })
        await rm(file, { force: true })
      }
    } finally {
      const left = await next?.catch(() => undefined)
      if (left !== undefined) await rm(left, { force: true })
    }
  }, limits)
}

function columnOf({ columns }: KeyedTable, name: string): KeyedTable['columns'][number] {
  return columns.find(column => column.name === name)!
}

function onlyThese(only: KeyedTable['only']): string {
  const conditions = (only ?? []).map(({ column, is }) =>
    is === null ? `${ident(column)} IS NULL` : `${ident(column)} = ${literal(is)}`,
  )
  return conditions.length > 0 ? conditions.join(' AND ') : 'TRUE'
}
