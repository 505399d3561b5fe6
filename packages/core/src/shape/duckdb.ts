import type { LogicalType } from '../records/types.ts'
import type { MappedType, ToMap } from './mapped.ts'

const DIMENSIONS =
  'without lower bounds; a list of other dimensions than were declared would stop the pipeline'

/** The DuckDB type that a column becomes; lists are not told apart by their bounds there. */
export function duckdbColumn({ type, keyParts }: Pick<ToMap, 'type' | 'keyParts'>): MappedType {
  if (type.kind !== 'list') return duckdbType(type)
  return {
    ...duckdbType(type),
    note: DIMENSIONS,
    remedy: 'Nothing need be done where all its lists begin at 1, as they do by default.',
    ...(keyParts > 0
      ? { refused: 'DuckDB cannot tell lists apart by their bounds, which the key could' }
      : {}),
  }
}

/** The DuckDB type that holds every value of a logical type, or text where none does. */
export function duckdbType(type: LogicalType): MappedType {
  switch (type.kind) {
    case 'bool':
      return { native: 'BOOLEAN' }
    case 'int':
      return {
        native: `${type.signed ? '' : 'U'}${{ 8: 'TINYINT', 16: 'SMALLINT', 32: 'INTEGER', 64: 'BIGINT' }[type.bits]}`,
      }
    case 'float':
      return { native: type.bits === 32 ? 'FLOAT' : 'DOUBLE' }
    case 'decimal':
      return decimalType(type.precision, type.scale)
    case 'utf8':
      return { native: 'VARCHAR' }
    case 'binary':
      return { native: 'BLOB' }
    case 'date':
      return { native: 'DATE' }
    case 'time':
      return type.zoned
        ? { native: 'VARCHAR', note: 'kept as text: a time with a zone keeps its offset so' }
        : { native: 'TIME' }
    case 'timestamp':
      return { native: type.zoned ? 'TIMESTAMPTZ' : 'TIMESTAMP' }
    case 'interval':
      return { native: 'INTERVAL' }
    case 'uuid':
      return { native: 'UUID' }
    case 'json':
      return { native: 'JSON' }
    case 'list': {
      const element = duckdbType(type.of)
      return { native: `${element.native}[]`, ...(element.note ? { note: element.note } : {}) }
    }
    case 'other':
      return { native: 'VARCHAR', note: `kept as text: there is no counterpart of ${type.native}` }
  }
}

function decimalType(precision?: number, scale = 0): MappedType {
  if (precision === undefined) {
    return { native: 'VARCHAR', note: 'kept as text: decimals without limits fit no DECIMAL' }
  }
  if (precision > 38 || scale < 0 || scale > precision) {
    return { native: 'VARCHAR', note: `kept as text: decimal(${precision},${scale}) is wider than 38 digits` }
  }
  return { native: `DECIMAL(${precision},${scale})` }
}

const NAMED: Record<string, LogicalType> = {
  BOOLEAN: { kind: 'bool' },
  FLOAT: { kind: 'float', bits: 32 },
  DOUBLE: { kind: 'float', bits: 64 },
  VARCHAR: { kind: 'utf8' },
  BLOB: { kind: 'binary' },
  DATE: { kind: 'date' },
  TIME: { kind: 'time', zoned: false },
  'TIME WITH TIME ZONE': { kind: 'time', zoned: true },
  TIMESTAMP: { kind: 'timestamp', zoned: false },
  'TIMESTAMP WITH TIME ZONE': { kind: 'timestamp', zoned: true },
  INTERVAL: { kind: 'interval' },
  UUID: { kind: 'uuid' },
  JSON: { kind: 'json' },
}

const WIDTHS: Record<string, 8 | 16 | 32 | 64> = { TINYINT: 8, SMALLINT: 16, INTEGER: 32, BIGINT: 64 }

/** The logical type of a DuckDB column, from `data_type` of `duckdb_columns()`. */
export function duckdbLogical(native: string): LogicalType {
  if (native.endsWith('[]')) return { kind: 'list', of: duckdbLogical(native.slice(0, -2)) }
  const [, unsigned, width] = /^(U?)(TINYINT|SMALLINT|INTEGER|BIGINT)$/.exec(native) ?? []
  if (width) return { kind: 'int', bits: WIDTHS[width]!, signed: unsigned === '' }
  const [, precision, scale] = /^DECIMAL\((\d+),(\d+)\)$/.exec(native) ?? []
  if (precision) return { kind: 'decimal', precision: Number(precision), scale: Number(scale) }
  return NAMED[native] ?? { kind: 'other', native }
}
