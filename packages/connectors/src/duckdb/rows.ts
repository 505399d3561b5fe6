/** Rows of a DuckDB file in canonical text: single ones by their keys, and all of a table in the order of its key. */
import type { Key, Row } from '@tide/core/records/value'
import type { KeyedTable, OrderedTable } from '../contract/records.ts'
import type { StreamLimits } from '../contract/session.ts'
import type { DuckdbConnection, HostValue } from './host.ts'
import { canonicalText, ident, literal, tableName, typedValue } from './sql.ts'

const KEYS_AT_ONCE = 2_000
/** Of an ordered table, about so much is put together in memory at once, and about so much of it comes as one value. */
const RANGE_BYTES = 16 * 2 ** 20
const TOGETHER_BYTES = 64 * 1024
const LOOKED_AT_ROWS = 1_000

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

/** As CSV. Ranges of the key one after another, in one transaction, so that no more than a range must be sorted in memory. */
export async function* readOrdered(
  connection: DuckdbConnection,
  table: OrderedTable,
  limits: Omit<StreamLimits, 'batchRows'>,
): AsyncGenerator<Uint8Array> {
  const { dataset, columns, key, order, quoted, only } = table
  const parts = key.map((name, i) => {
    const { type, nativeType } = columnOf(table, name)
    const text = canonicalText(ident(name), type, nativeType)
    return order[i] === 'text'
      ? { by: text, text, bound: (value: string) => literal(value) }
      : { by: ident(name), text, bound: (value: string) => typedValue(literal(value), type, nativeType) }
  })
  const by = parts.map(part => part.by).join(', ')
  const fields = columns.map(({ name, type, nativeType }, i) => {
    const text = canonicalText(ident(name), type, nativeType)
    return quoted[i]
      ? `coalesce('"' || replace(${text}, '"', '""') || '"', '')`
      : `coalesce(CAST(${text} AS VARCHAR), '')`
  })
  const from = `FROM ${tableName(dataset)} WHERE ${onlyThese(only)}`
  const line = `concat(${fields.join(`, ',', `)}, chr(10))`
  const ends = (rows: number) =>
    `SELECT ${parts.map((_, i) => `hex(encode(k${i}))`).join(', ')}
       FROM (SELECT ${parts.map(({ text }, i) => `${text} AS k${i}`).join(', ')}, row_number() OVER (ORDER BY ${by}) AS n ${from})
      WHERE n % ${rows} = 0 ORDER BY n`
  yield* connection.readBytes(async () => {
    const [looked] = await connection.ask(
      `SELECT avg(strlen(line))::VARCHAR FROM (SELECT ${line} AS line ${from} LIMIT ${LOOKED_AT_ROWS})`,
    )
    const bytes = Math.max(1, Number(looked?.[0] ?? 1))
    const rows = Math.min(200_000, Math.max(100, Math.round(RANGE_BYTES / bytes)))
    const together = Math.max(1, Math.round(TOGETHER_BYTES / bytes))
    const found = (await connection.ask(ends(rows))).map(row => row.map(digits => textOf(digits)!))
    const bound = (end: readonly string[]) => `(${parts.map((part, i) => part.bound(end[i]!)).join(', ')})`
    return [...found, undefined].map((end, i) => {
      const after = i === 0 ? '' : ` AND (${by}) > ${bound(found[i - 1]!)}`
      const upTo = end ? ` AND (${by}) <= ${bound(end)}` : ''
      return `SELECT encode(string_agg(line, '' ORDER BY n))
          FROM (SELECT ${line} AS line, row_number() OVER (ORDER BY ${by}) AS n ${from}${after}${upTo})
          GROUP BY (n - 1) // ${together} ORDER BY (n - 1) // ${together}`
    })
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
