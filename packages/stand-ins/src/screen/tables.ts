/** Reading and writing a site's tables by hand: every value as text, cast by the database. */
import type { Pool } from 'pg'

export interface Column {
  name: string
  type: string
  nullable: boolean
  inKey: boolean
}

export interface Table {
  namespace: string
  name: string
  columns: Column[]
}

const TABLES = `
SELECT n.nspname AS namespace, c.relname AS name,
       json_agg(json_build_object('name', a.attname, 'type', format_type(a.atttypid, a.atttypmod), 'nullable', NOT a.attnotnull,
                'inKey', EXISTS (SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisprimary AND a.attnum = ANY (i.indkey)))
                ORDER BY a.attnum) AS columns
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid
 WHERE c.relkind = 'r' AND n.nspname IN ('nursery', 'Field Notes') AND a.attnum > 0 AND NOT a.attisdropped
 GROUP BY n.nspname, c.relname ORDER BY n.nspname DESC, c.relname`

export const PAGE = 25

const ident = (name: string) => `"${name.replaceAll('"', '""')}"`
const nameOf = (table: Table) => `${ident(table.namespace)}.${ident(table.name)}`

export async function listTables(pool: Pool): Promise<Table[]> {
  return (await pool.query(TABLES)).rows
}

/** Rows as text, with `ctid` to find keyless rows by; newest keys first. */
export async function readRows(
  pool: Pool,
  table: Table,
  find: string,
  page: number,
): Promise<Record<string, string | null>[]> {
  const columns = table.columns.map(({ name, type }) =>
    type === 'bytea' ? `left(encode(${ident(name)}, 'hex'), 24) AS ${ident(name)}` : `${ident(name)}::text`,
  )
  const key = table.columns.filter(column => column.inKey).map(column => `t.${ident(column.name)} DESC`)
  const result = await pool.query(
    `SELECT ctid::text AS "ctid", ${columns.join(', ')} FROM ${nameOf(table)} t
      WHERE $1 = '' OR t::text ILIKE '%' || $1 || '%' ORDER BY ${key.join(', ') || 't.ctid'} LIMIT ${PAGE} OFFSET $2`,
    [find, page * PAGE],
  )
  return result.rows
}

/** One row as text. */
export async function readRow(
  pool: Pool,
  table: Table,
  ctid: string,
): Promise<Record<string, string | null> | undefined> {
  const columns = table.columns.map(({ name }) => `${ident(name)}::text`)
  const result = await pool.query(`SELECT ${columns.join(', ')} FROM ${nameOf(table)} WHERE ctid = $1::tid`, [
    ctid,
  ])
  return result.rows[0]
}

/** An empty text means NULL where the column may be null. */
function parameter({ nullable, type }: Column, text: string | undefined): string | null {
  return (text === undefined || text === '') && (nullable || type !== 'text') ? null : (text ?? '')
}

export async function insertRow(pool: Pool, table: Table, form: Record<string, string>): Promise<void> {
  const given = table.columns.filter(column => form[column.name] !== undefined && form[column.name] !== '')
  await pool.query(
    `INSERT INTO ${nameOf(table)} (${given.map(({ name }) => ident(name)).join(', ')})
     VALUES (${given.map(({ type }, i) => `$${i + 1}::text::${type}`).join(', ')})`,
    given.map(column => form[column.name]),
  )
}

export async function updateRow(
  pool: Pool,
  table: Table,
  ctid: string,
  form: Record<string, string>,
): Promise<void> {
  const set = table.columns.map(({ name, type }, i) => `${ident(name)} = $${i + 2}::text::${type}`)
  const values = table.columns.map(column => parameter(column, form[column.name]))
  const done = await pool.query(`UPDATE ${nameOf(table)} SET ${set.join(', ')} WHERE ctid = $1::tid`, [
    ctid,
    ...values,
  ])
  if (done.rowCount === 0) throw new Error('The row was changed meanwhile. Open it again.')
}

export async function deleteRow(pool: Pool, table: Table, ctid: string): Promise<void> {
  const done = await pool.query(`DELETE FROM ${nameOf(table)} WHERE ctid = $1::tid`, [ctid])
  if (done.rowCount === 0) throw new Error('The row was changed meanwhile. Look again.')
}
