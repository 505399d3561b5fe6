/** Single rows of MariaDB by their keys. */
import type { Key, Row } from '@tide/core/records/value'
import type { KeyedTable } from '../contract/records.ts'
import type { Session } from './client.ts'
import { canonicalRow } from './log/view.ts'
import { onlyThese } from './prefilter.ts'
import { canonicalColumn, ident, keyLiteral, tableName } from './sql.ts'

const KEYS_AT_ONCE = 1_000

/** The row of this key, or the last in key order. */
export async function readRow(session: Session, table: KeyedTable, key: Key | null): Promise<Row | null> {
  const order = table.key.map(part => `${ident(part)} DESC`).join(', ')
  const [row] = key
    ? await readRows(session, table, [key])
    : await select(session, table, `TRUE ORDER BY ${order} LIMIT 1`)
  return row ?? null
}

export function readRows(session: Session, table: KeyedTable, keys: readonly Key[]): Promise<Row[]> {
  return read(session, table, keys, '')
}

async function read(session: Session, table: KeyedTable, keys: readonly Key[], more: string): Promise<Row[]> {
  const columns = table.key.map(part => table.columns.find(({ name }) => name === part)!)
  const tuples = keys.flatMap(key => {
    const parts = key.map((value, i) => keyLiteral(value, columns[i]!.type, columns[i]!.nativeType))
    return parts.includes(undefined) ? [] : [`(${parts.join(', ')})`]
  })
  const names = columns.map(({ name }) => ident(name)).join(', ')
  const rows: Row[] = []
  for (let at = 0; at < tuples.length; at += KEYS_AT_ONCE) {
    const some = tuples.slice(at, at + KEYS_AT_ONCE).join(', ')
    rows.push(...(await select(session, table, `(${names}) IN (${some})${more}`)))
  }
  return rows
}

/** Those of these rows for which all conditions hold, which nobody changes any more before the transaction has ended. */
export function readLocked(
  session: Session,
  table: KeyedTable,
  keys: readonly Key[],
  conditions: readonly string[],
): Promise<Row[]> {
  return read(session, table, keys, conditions.map(one => ` AND ${one}`).join('') + ' FOR UPDATE')
}

async function select(
  session: Session,
  { dataset, columns, only }: KeyedTable,
  where: string,
): Promise<Row[]> {
  const list = columns.map(column => canonicalColumn(column.name, column.type, column.nativeType))
  const floats = columns.flatMap(({ type }, i) => (type.kind === 'float' && type.bits === 32 ? [i] : []))
  const rows = await session.arrays(
    `SELECT ${list.join(', ')} FROM ${tableName(dataset)} WHERE ${onlyThese(only)} AND ${where}`,
  )
  return rows.map(row => canonicalRow(row, floats))
}
