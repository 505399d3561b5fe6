/** Reading a DuckDB file for people: catalogue, previews, queries. */
import type { Dataset } from '@tide/core/records/dataset'
import type { Catalogue, Grid } from '@tide/core/api/browse'
import type { QueryLimits, RowBatch, StreamLimits } from '../contract/session.ts'
import type { DuckdbConnection } from './host.ts'
import { questionIn } from './question.ts'
import { misunderstood, tooMuchMemory } from '../question/refusal.ts'
import { messageOf, Failure } from '@tide/core/failure'
import { duckdbLogical } from '@tide/core/shape/duckdb'
import { tableName } from './sql.ts'

const TABLES = `
SELECT schema_name, table_name, 'table' AS kind, estimated_size::VARCHAR FROM duckdb_tables() WHERE NOT temporary AND NOT internal
UNION ALL
SELECT schema_name, view_name, 'view', '0' FROM duckdb_views() WHERE NOT temporary AND NOT internal
ORDER BY ALL`

const COLUMNS = `
SELECT schema_name, table_name, column_name, data_type, is_nullable FROM duckdb_columns() WHERE NOT internal ORDER BY column_index`

export async function readCatalogue(connection: DuckdbConnection): Promise<Catalogue> {
  const text = async (sql: string) => (await connection.ask(sql)) as string[][]
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
        type: duckdbLogical(column[3]!),
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

/** The statement of a person; refused by name when it is not known to be a question. */
export async function query(connection: DuckdbConnection, sql: string, limits: QueryLimits): Promise<Grid> {
  try {
    return await connection.question(await questionIn(connection, sql), limits)
  } catch (error) {
    throw refusalOf(error)
  }
}

/** The same batch by batch. */
export async function* queryRows(
  connection: DuckdbConnection,
  sql: string,
  limits: StreamLimits,
): AsyncGenerator<RowBatch> {
  try {
    yield* connection.rows(await questionIn(connection, sql), limits)
  } catch (error) {
    throw refusalOf(error)
  }
}

function refusalOf(error: unknown): unknown {
  if (error instanceof Failure) return error
  const message = messageOf(error)
  return message.startsWith('Out of Memory Error') ? tooMuchMemory() : misunderstood(message)
}
