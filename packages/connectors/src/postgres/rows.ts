/** Single rows of PostgreSQL by their keys. */
import { Failure } from '@tide/core/failure'
import { printName } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import type { Pool } from 'pg'
import type { KeyedTable } from '../contract/records.ts'
import { tableName } from './catalogue.ts'
import { PIN } from './copy.ts'
import { onlyThese } from './prefilter.ts'
import { ident, literal } from './text.ts'
import { inTransaction } from './transaction.ts'

/** Of a value that is read for itself. */
const LARGEST_VALUE_BYTES = 128 * 2 ** 20
/** So many keys go into one statement. */
const KEYS_AT_ONCE = 2_000

/** The row of this key, or the last in key order. */
export async function readRow(pool: Pool, table: KeyedTable, key: Key | null): Promise<Row | null> {
  const last = `true ORDER BY ${table.key.map(part => `t.${ident(part)} DESC`).join(', ')} LIMIT 1`
  const [row] = key ? await read(pool, table, [key]) : await select(pool, table, last, [], null)
  return row ?? null
}

export async function readRows(pool: Pool, table: KeyedTable, keys: readonly Key[]): Promise<Row[]> {
  const rows: Row[] = []
  for (let at = 0; at < keys.length; at += KEYS_AT_ONCE)
    rows.push(...(await readTypable(pool, table, keys.slice(at, at + KEYS_AT_ONCE))))
  return rows
}

/** Where some text is no value of the key's type, the others are looked for without it. */
async function readTypable(pool: Pool, table: KeyedTable, keys: readonly Key[]): Promise<Row[]> {
  if (keys.length === 0) return []
  try {
    return await read(pool, table, keys)
  } catch (error) {
    if (!/^22/.test((error as { code?: string }).code ?? '')) throw error
    if (keys.length === 1) return []
    const half = keys.length >> 1
    return [
      ...(await readTypable(pool, table, keys.slice(0, half))),
      ...(await readTypable(pool, table, keys.slice(half))),
    ]
  }
}

function read(pool: Pool, table: KeyedTable, keys: readonly Key[]): Promise<Row[]> {
  const { columns, key } = table
  const typeOf = (part: string) => columns.find(column => column.name === part)!.nativeType
  const parts = key.map((_, i) => `$${i + 1}::text[]`).join(', ')
  const asked = key.map((part, i) => `k.k${i}::${typeOf(part)}`).join(', ')
  const where = `(${key.map(part => `t.${ident(part)}`).join(', ')}) IN
    (SELECT ${asked} FROM unnest(${parts}) AS k(${key.map((_, i) => `k${i}`).join(', ')}))`
  const values = key.map((_, i) => keys.map(parts => parts[i]!))
  return select(pool, table, where, values, keys.length === 1 ? keys[0]! : null)
}

async function select(
  pool: Pool,
  { dataset, columns, key, only }: KeyedTable,
  where: string,
  values: readonly (readonly string[])[],
  told: Key | null,
): Promise<Row[]> {
  // A text longer than the driver can make would end the process.
  const size = (name: string) => `octet_length(t.${ident(name)}::text)`
  const large = columns
    .map(({ name }) => `WHEN ${size(name)} > ${LARGEST_VALUE_BYTES} THEN ${literal(name)}`)
    .join(' ')
  const list = columns.map(
    ({ name }) => `CASE WHEN ${size(name)} <= ${LARGEST_VALUE_BYTES} THEN t.${ident(name)} END`,
  )
  return inTransaction(pool, async client => {
    await client.query(PIN)
    const { rows } = await client.query<(string | null)[]>({
      text: `SELECT CASE ${large} END, ${list.join(', ')} FROM ${tableName(dataset)} t WHERE ${onlyThese(only)} AND ${where}`,
      values: [...values],
      rowMode: 'array',
    })
    return rows.map(([tooLarge, ...row]) => {
      if (typeof tooLarge !== 'string') return row
      const ofRow = key
        .map(
          (part, i) =>
            `${part} ${told?.[i]?.slice(0, 60) ?? row[columns.findIndex(({ name }) => name === part)] ?? ''}`,
        )
        .join(', ')
      throw new Failure(
        'value',
        `${printName(dataset)}.${tooLarge}: the value is larger than can be carried (${LARGEST_VALUE_BYTES / 2 ** 20} MB), in the row with ${ofRow}.`,
        'Make the value smaller at the source.',
      )
    })
  })
}
