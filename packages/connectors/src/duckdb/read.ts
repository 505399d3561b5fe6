/** Reading a DuckDB file for people: catalogue, previews, queries. */
import { StatementType, type DuckDBConnection, type DuckDBResultReader } from '@duckdb/node-api'
import { Failure } from '@tide/core/failure'
import type { Dataset, DatasetName } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import type { Catalogue, Grid } from '@tide/core/api/browse'
import type { QueryLimits, RowTable } from '../contract.ts'
import { canonicalText, ident, tableName, typedValue } from './sql.ts'

const TABLES = `
SELECT schema_name, table_name, 'table' AS kind, estimated_size::VARCHAR FROM duckdb_tables() WHERE NOT temporary AND NOT internal
UNION ALL
SELECT schema_name, view_name, 'view', '0' FROM duckdb_views() WHERE NOT temporary AND NOT internal
ORDER BY ALL`

const COLUMNS = `
SELECT schema_name, table_name, column_name, data_type, is_nullable FROM duckdb_columns() WHERE NOT internal ORDER BY column_index`

export async function readCatalogue(connection: DuckDBConnection): Promise<Catalogue> {
  const text = async (sql: string) => (await connection.runAndReadAll(sql)).getRows() as string[][]
  const schemas = await text(
    `SELECT DISTINCT schema_name FROM duckdb_schemas() WHERE NOT internal OR schema_name = 'main' ORDER BY 1`,
  )
  const columns = await text(COLUMNS)
  const datasets: Dataset[] = (await text(TABLES)).map(([namespace, name, kind, rows]) => ({
    namespace: namespace!,
    name: name!,
    kind: kind as 'table' | 'view',
    fields: columns
      .filter(column => column[0] === namespace && column[1] === name)
      .map(column => ({
        name: column[2]!,
        type: { kind: 'other', native: column[3]! },
        nativeType: column[3]!,
        nullable: Boolean(column[4]),
      })),
    key: [],
    rows: Number(rows),
    rowsExact: false,
    bytes: 0,
  }))
  const tables = datasets.filter(dataset => dataset.kind === 'table')
  if (tables.length > 0) {
    const [counts] = await text(
      `SELECT ${tables.map(table => `(SELECT count(*)::VARCHAR FROM ${tableName(table)})`).join(', ')}`,
    )
    tables.forEach((table, i) => Object.assign(table, { rows: Number(counts![i]), rowsExact: true }))
  }
  return { schemas: schemas.map(([schema]) => schema!), datasets }
}

export async function preview(
  connection: DuckDBConnection,
  table: DatasetName,
  limit: number,
): Promise<Grid> {
  const began = performance.now()
  const result = await connection.runAndReadAll(
    `SELECT * FROM ${tableName(table)} LIMIT ${Math.floor(limit)}`,
  )
  return { ...grid(result), total: null, milliseconds: performance.now() - began }
}

export async function readRow(
  connection: DuckDBConnection,
  { name, columns, key }: RowTable,
  value: Key | null,
): Promise<Row | null> {
  // In hexadecimal digits, since the driver takes a mark at the beginning of a text (U+FEFF) for none of it.
  const list = columns
    .map(column => `hex(encode(${canonicalText(ident(column.name), column.type, column.nativeType)}))`)
    .join(', ')
  const where = key
    .map((part, i) => {
      const { type, nativeType } = columns.find(column => column.name === part)!
      return `${ident(part)} = ${typedValue(`$${i + 1}::VARCHAR`, type, nativeType)}`
    })
    .join(' AND ')
  const last = `ORDER BY ${key.map(part => `${ident(part)} DESC`).join(', ')}`
  const result = await connection.runAndReadAll(
    `SELECT ${list} FROM ${tableName(name)} ${value ? `WHERE ${where}` : last} LIMIT 1`,
    value ? [...value] : [],
  )
  const row = result.getRows()[0] as (string | null)[] | undefined
  return row?.map(digits => (digits === null ? null : Buffer.from(digits, 'hex').toString())) ?? null
}

/** One SELECT (or EXPLAIN, DESCRIBE …) in a read-only transaction, cut at `maxRows` and interrupted at `timeoutMs`. */
export async function query(connection: DuckDBConnection, sql: string, limits: QueryLimits): Promise<Grid> {
  const began = performance.now()
  let interrupted = false
  const timer = setTimeout(() => {
    interrupted = true
    connection.interrupt()
  }, limits.timeoutMs)
  try {
    const statements = await connection.extractStatements(sql)
    if (statements.count !== 1) {
      throw new Failure(
        'refused',
        `The box holds ${statements.count} statements.`,
        'Send one statement at a time.',
      )
    }
    await connection.run('BEGIN TRANSACTION READ ONLY')
    const prepared = await statements.prepare(0)
    if (![StatementType.SELECT, StatementType.EXPLAIN].includes(prepared.statementType)) {
      const kind = StatementType[prepared.statementType]
      throw new Failure(
        'refused',
        `This is not a query but ${kind}.`,
        'Only reading statements run here, such as SELECT.',
      )
    }
    const result = await prepared.streamAndReadUntil(limits.maxRows)
    const shown = grid(result)
    const cut = shown.rows.length > limits.maxRows || !result.done
    shown.rows.length = Math.min(shown.rows.length, limits.maxRows)
    const total = cut ? await countAll(connection, sql) : shown.rows.length
    return { ...shown, total, milliseconds: performance.now() - began }
  } catch (error) {
    if (error instanceof Failure) throw error
    if (interrupted) {
      const seconds = Math.round(limits.timeoutMs / 1000)
      throw new Failure(
        'refused',
        `The query was stopped after ${seconds} s.`,
        'Ask for less, for example with WHERE or LIMIT.',
      )
    }
    throw new Failure('refused', (error as Error).message, 'Correct the statement.')
  } finally {
    clearTimeout(timer)
    await connection.run('ROLLBACK').catch(() => {}) // when it did not get as far as BEGIN
  }
}

async function countAll(connection: DuckDBConnection, sql: string): Promise<number | null> {
  const inner = sql.trim().replace(/;\s*$/, '')
  try {
    const counted = await connection.runAndReadAll(`SELECT count(*)::VARCHAR FROM (${inner}\n)`)
    return Number(counted.getRows()[0]![0])
  } catch {
    return null // EXPLAIN and the like cannot be counted, or time was up
  }
}

function grid(result: DuckDBResultReader): Pick<Grid, 'columns' | 'rows'> {
  const types = result.columnTypes()
  return {
    columns: result.columnNames().map((name, i) => ({ name, type: String(types[i]) })),
    rows: result.getRows().map(row => row.map(value => (value === null ? null : String(value)))),
  }
}
