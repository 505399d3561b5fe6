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
