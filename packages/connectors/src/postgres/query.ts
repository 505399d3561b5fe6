import { queryRefusal } from '../query-refusal.ts'
import type { Grid } from '@tide/core/api/browse'
import type { FieldDef, Pool, QueryConfig } from 'pg'
import type { QueryLimits } from '../contract.ts'

/** Changes that one answer may hold: it comes whole, and how large its values are shows only then. */
export const CHANGES_IN_AN_ANSWER = 5_000

/** One reading statement, cut at `maxRows` and stopped at `timeoutMs`. The server itself lets it write nothing. */
export async function query(pool: Pool, sql: string, limits: QueryLimits): Promise<Grid> {
  const began = performance.now()
  const client = await pool.connect()
  try {
    await client.query(`BEGIN READ ONLY; SET LOCAL statement_timeout = ${Math.floor(limits.timeoutMs)}`)
    // By the extended protocol, which takes one statement at a time.
    const text = `DECLARE tide NO SCROLL CURSOR FOR ${sql.trim().replace(/;\s*$/, '')}`
    await client.query({ text, queryMode: 'extended' } as QueryConfig)
    const result = await client.query({ text: `FETCH ${limits.maxRows + 1} FROM tide`, rowMode: 'array' })
    const cut = result.rows.length > limits.maxRows
    const columns = await named(pool, result.fields)
    const rows = result.rows.slice(0, limits.maxRows)
    return { columns, rows, total: cut ? null : rows.length, milliseconds: performance.now() - began }
  } catch (error) {
    const { code, message } = error as { code?: string; message: string }
    throw queryRefusal(message, code === '57014', limits)
  } finally {
    client.release(true) // whatever it has set goes with it
  }
}

/** Columns with the names of their types. */
export async function named(pool: Pool, fields: readonly FieldDef[]): Promise<Grid['columns']> {
  const types = await pool.query(
    `SELECT oid::text, format_type(oid, NULL) AS name FROM pg_catalog.pg_type WHERE oid = ANY ($1::oid[])`,
    [`{${fields.map(field => field.dataTypeID).join(',')}}`],
  )
  const nameOf = new Map(types.rows.map(row => [Number(row.oid), row.name as string]))
  return fields.map(field => ({ name: field.name, type: nameOf.get(field.dataTypeID) ?? '' }))
}
