/** Columns as fields of Iceberg: each with an id of its own, which it keeps under whatever name. */
import type { Column } from '@tide/core/records/column'
import { ident, literal } from '../../duckdb/sql.ts'

/** https://iceberg.apache.org/spec/#schemas-and-data-types */
export type IcebergType =
  string | { type: 'list'; 'element-id': number; element: IcebergType; 'element-required': false }

export interface IcebergField {
  id: number
  name: string
  required: boolean
  type: IcebergType
  /** What DuckDB calls it. */
  doc: string
}

export interface IcebergSchema {
  type: 'struct'
  'schema-id': number
  'identifier-field-ids': number[]
  fields: IcebergField[]
}

const NAMED: Record<string, string> = {
  BOOLEAN: 'boolean',
  INTEGER: 'int',
  BIGINT: 'long',
  FLOAT: 'float',
  DOUBLE: 'double',
  BLOB: 'binary',
  DATE: 'date',
  TIME: 'time',
  TIMESTAMP: 'timestamp',
  TIMESTAMPTZ: 'timestamptz',
  UUID: 'uuid',
}

/** `next`: gives an id that no field has had. */
function typeOf(native: string, next: () => number): IcebergType {
  if (native.endsWith('[]'))
    return {
      type: 'list',
      'element-id': next(),
      element: typeOf(native.slice(0, -2), next),
      'element-required': false,
    }
  const [, precision, scale] = /^DECIMAL\((\d+),(\d+)\)$/.exec(native) ?? []
  if (precision !== undefined) return `decimal(${precision}, ${scale})`
  // Whatever is kept as text is text.
  return NAMED[native] ?? 'string'
}

export function fieldOf(
  { name, nativeType }: Pick<Column, 'name' | 'nativeType'>,
  next: () => number,
): IcebergField {
  return { id: next(), name, required: false, type: typeOf(nativeType, next), doc: nativeType }
}

/** What DuckDB is told when it writes Parquet: the ids of the fields, and the schema itself. */
export function withIds(schema: IcebergSchema): string {
  const ids = schema.fields.map(field => `${ident(field.name)}: ${fieldIds(field)}`).join(', ')
  return `, FIELD_IDS {${ids}}, KV_METADATA {"iceberg.schema": ${literal(JSON.stringify(schema))}}`
}

function fieldIds({ id, type }: Pick<IcebergField, 'id' | 'type'>): string {
  if (typeof type === 'string') return String(id)
  return `{__duckdb_field_id: ${id}, element: ${fieldIds({ id: type['element-id'], type: type.element })}}`
}
