import type { LogicalType } from '../records/types.ts'
import type { MappedType } from './mapped.ts'

const INTEGERS: Record<string, 8 | 16 | 32 | 64> = {
  tinyint: 8,
  smallint: 16,
  mediumint: 32,
  int: 32,
  bigint: 64,
}

/** The logical type of a MariaDB column, from `data_type` and `column_type` of its information schema. */
export function mariadbType(dataType: string, columnType: string): LogicalType {
  const bits = INTEGERS[dataType]
  if (bits) return { kind: 'int', bits, signed: !/unsigned/.test(columnType) }
  switch (dataType) {
    case 'float':
      return { kind: 'float', bits: 32 }
    case 'double':
      return { kind: 'float', bits: 64 }
    case 'decimal': {
      const [, precision, scale] = /\((\d+),(\d+)\)/.exec(columnType) ?? []
      return { kind: 'decimal', precision: Number(precision), scale: Number(scale) }
    }
    case 'bit':
      return { kind: 'int', bits: 64, signed: false }
    case 'year':
      return { kind: 'int', bits: 16, signed: true }
    case 'char':
    case 'varchar':
    case 'tinytext':
    case 'text':
    case 'mediumtext':
    case 'longtext':
    case 'enum':
    case 'set':
      return { kind: 'utf8' }
    case 'binary':
    case 'varbinary':
    case 'tinyblob':
    case 'blob':
    case 'mediumblob':
    case 'longblob':
      return { kind: 'binary' }
    case 'date':
      return { kind: 'date' }
    case 'datetime':
      return { kind: 'timestamp', zoned: false }
    case 'timestamp':
      return { kind: 'timestamp', zoned: true }
    case 'uuid':
      return { kind: 'uuid' }
    default:
      return { kind: 'other', native: dataType }
  }
}

/** Longest text that can be part of an index, in characters of four bytes. */
const KEY_TEXT = 'varchar(700) COLLATE utf8mb4_nopad_bin'
const LONG_TEXT = 'longtext COLLATE utf8mb4_nopad_bin'

/** What a column becomes in MariaDB. Text compares by its bytes there, so that different texts are different keys. */
export function mariadbColumn(type: LogicalType, native?: string, inKey = false): MappedType {
  if (native !== undefined) return { native }
  const text = inKey ? KEY_TEXT : LONG_TEXT
  switch (type.kind) {
    case 'bool':
      return { native: 'boolean' }
    case 'int':
      return {
        native: `${{ 8: 'tinyint', 16: 'smallint', 32: 'int', 64: 'bigint' }[type.bits]}${type.signed ? '' : ' unsigned'}`,
      }
    case 'float':
      return {
        native: type.bits === 32 ? 'float' : 'double',
        note: 'NaN and infinity do not fit there and would stop the pipeline',
      }
    case 'decimal':
      return type.precision === undefined || type.precision > 65 || (type.scale ?? 0) > 38
        ? { native: text, note: 'kept as text: it may be longer than 65 digits' }
        : { native: `decimal(${type.precision},${type.scale ?? 0})` }
    case 'utf8':
    case 'json':
      return { native: text }
    case 'binary':
      return { native: inKey ? 'varbinary(2800)' : 'longblob' }
    case 'uuid':
      return { native: 'uuid' }
    case 'date':
      return { native: 'date' }
    case 'timestamp':
      return type.zoned
        ? { native: 'datetime(6)', note: 'in UTC, without a zone: timestamps end in 2038 there' }
        : { native: 'datetime(6)' }
    default:
      return { native: text, note: `kept as text: there is no counterpart of ${type.kind}` }
  }
}
