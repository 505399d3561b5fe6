/** The SQL by which DuckDB reads files of a merged table, whatever its columns were called when they were written. */
import { ident, literal } from '../../duckdb/sql.ts'
import { schemaAt, currentSchema } from './metadata.ts'
import type { IcebergSchema } from './fields.ts'
import type { MergedTable } from './table.ts'

/** The file that a row is in; a name that no column has by chance. */
export const FILE = ident('constant tide: its file')

/**
 * Rows with these columns of a schema (by default the newest), in the types that the schema says; what a file does not have is null.
 * `at`: where a path of the lake is locally.
 */
export function selectMerged(
  { folder, metadata }: MergedTable,
  files: readonly { path: string }[],
  at: (path: string) => string,
  names: readonly string[],
  schema: IcebergSchema = currentSchema(metadata),
): string {
  const fields = names.map(name => schema.fields.find(field => field.name === name)!)
  if (files.length === 0)
    return `SELECT ${fields.map(({ name, doc }) => `CAST(NULL AS ${doc}) AS ${ident(name)}`).join(', ')}, NULL AS ${FILE} WHERE false`
  const bySchema = new Map<number, string[]>()
  for (const { path } of files) {
    const id = schemaIn(path)
    const others = bySchema.get(id)
    if (others) others.push(path)
    else bySchema.set(id, [path])
  }
  return [...bySchema]
    .map(([id, paths]) => {
      const written = schemaAt(metadata, id)
      const list = fields.map(({ id, name, doc }) => {
        const there = written.fields.find(field => field.id === id)
        return `CAST(${there ? ident(there.name) : 'NULL'} AS ${doc}) AS ${ident(name)}`
      })
      const read = paths.map(path => literal(at(`${folder}/${path}`))).join(', ')
      return `SELECT ${list.join(', ')}, filename AS ${FILE} FROM read_parquet([${read}], filename = true, hive_partitioning = false, union_by_name = true)`
    })
    .join(' UNION ALL ')
}

/** By which schema a file was written, as its name says. */
function schemaIn(path: string): number {
  const [, id] = /\/\d{12}-s(\d+)-[\w-]+\.parquet$/.exec(path) ?? []
  if (id === undefined) throw new Error(`${path} is no file of ours`)
  return Number(id)
}
