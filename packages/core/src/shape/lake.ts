import type { LogicalType } from '../records/types.ts'
import { duckdbColumn } from './duckdb.ts'
import type { MappedType, ToMap } from './mapped.ts'

/** Whole numbers as Iceberg has them: signed, of 32 or 64 bits. */
const WIDER: Record<string, string> = {
  TINYINT: 'INTEGER',
  SMALLINT: 'INTEGER',
  UTINYINT: 'INTEGER',
  USMALLINT: 'INTEGER',
  UINTEGER: 'BIGINT',
  UBIGINT: 'DECIMAL(20,0)',
}

/** What a column becomes in files of a lake, as DuckDB calls it; Parquet holds no negative intervals. */
export function lakeColumn(column: Pick<ToMap, 'type' | 'keyParts'>): MappedType {
  const mapped = duckdbColumn(column)
  const [, element, dimensions] = /^(.*?)((?:\[\])*)$/.exec(mapped.native) as unknown as [
    string,
    string,
    string,
  ]
  if (elementOf(column.type).kind === 'interval')
    return {
      ...mapped,
      native: `VARCHAR${dimensions}`,
      note: 'kept as text: Parquet holds no negative intervals',
    }
  return { ...mapped, native: `${WIDER[element] ?? element}${dimensions}` }
}

function elementOf(type: LogicalType): LogicalType {
  return type.kind === 'list' ? elementOf(type.of) : type
}
