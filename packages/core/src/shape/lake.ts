import type { LogicalType } from '../records/types.ts'
import { duckdbColumn } from './duckdb.ts'
import type { MappedType, ToMap } from './mapped.ts'

/** What a column becomes in files of a lake, as DuckDB calls it; Parquet holds no negative intervals. */
export function lakeColumn(column: Pick<ToMap, 'type' | 'keyParts'>): MappedType {
  const mapped = duckdbColumn(column)
  if (elementOf(column.type).kind !== 'interval') return mapped
  return {
    ...mapped,
    native: mapped.native.replace('INTERVAL', 'VARCHAR'),
    note: 'kept as text: Parquet holds no negative intervals',
  }
}

function elementOf(type: LogicalType): LogicalType {
  return type.kind === 'list' ? elementOf(type.of) : type
}
