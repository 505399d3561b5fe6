/** The SQL by which DuckDB reads files of a lake. */
import type { TableSchema } from './manifest.ts'
import type { FileGroup } from './change-tables.ts'
import { ident, literal, readCsv, typedValue } from '../duckdb/sql.ts'

/** Of one value in JSON. */
const LARGEST_OBJECT = 16 * 2 ** 20
const LONGEST_LINE = 16 * 2 ** 20

/** All rows of files, with the columns of `schema`; those that a file does not have are null. `at`: where a path is locally. */
export function selectFrom(
  groups: readonly FileGroup[],
  schema: TableSchema,
  at: (path: string) => string,
): string {
  if (groups.length === 0) {
    const columns = schema.columns.map(
      ({ name, nativeType }) => `CAST(NULL AS ${nativeType}) AS ${ident(name)}`,
    )
    return `SELECT ${columns.join(', ')} WHERE false`
  }
  return groups
    .map(group => {
      const { read, expressions } = reading(group, at)
      const columns = schema.columns.map(({ name, nativeType }) => {
        const expression = expressions.get(name)
        return `${expression === undefined ? `CAST(NULL AS ${nativeType})` : `CAST(${expression} AS ${nativeType})`} AS ${ident(name)}`
      })
      return `SELECT ${columns.join(', ')} FROM ${read}`
    })
    .join('\nUNION ALL ')
}

function reading(
  { schema, format, paths }: FileGroup,
  at: (path: string) => string,
): { read: string; expressions: Map<string, string> } {
  const files = `[${paths.map(path => literal(at(path))).join(', ')}]`
  const { columns } = schema
  if (format === 'parquet')
    return {
      read: `read_parquet(${files}, hive_partitioning = false)`,
      expressions: new Map(columns.map(({ name }) => [name, ident(name)])),
    }
  if (format === 'csv') {
    const { read, select } = readCsv(
      { file: '', bytes: 0, longestLine: LONGEST_LINE, named: paths.map(at) },
      columns.map(column => ({ ...column, nullable: true, ...asListed(column) })),
    )
    return {
      read,
      expressions: new Map(columns.map(({ name }, i) => [name, select[i]!])),
    }
  }
  const types = columns.map(({ name }) => `${literal(name)}: 'VARCHAR'`).join(', ')
  return {
    read: `read_json(${files}, format = 'newline_delimited', hive_partitioning = false, maximum_object_size = ${LARGEST_OBJECT}, columns = {${types}})`,
    expressions: new Map(
      columns.map(({ name, type, nativeType }) => [name, typedValue(ident(name), type, nativeType)]),
    ),
  }
}

/** Lists stand in CSV as PostgreSQL prints them, which DuckDB does not read. */
function asListed({ type }: TableSchema['columns'][number]): object {
  return type.kind === 'list' ? { type: { kind: 'utf8' }, nativeType: 'VARCHAR' } : {}
}
