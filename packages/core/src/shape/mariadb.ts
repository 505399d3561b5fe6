import type { LogicalType } from '../records/types.ts'
import type { MappedType, ToMap } from './mapped.ts'

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

/** Longest text that can be part of an index, in characters of four bytes; what an index takes in all, in bytes. */
const KEY_TEXT = 700
const INDEX_BYTES = 3000
const EXACT = 'COLLATE utf8mb4_nopad_bin'

/**
 * What a column becomes in MariaDB. What comes from MariaDB keeps its type and its collation: which keys are equal is the
 * source's judgement. Text from elsewhere compares by its bytes, so that different texts are different keys.
 */
export function mariadbColumn({ type, nativeType, collation, sameKind, keyParts }: ToMap): MappedType {
  if (sameKind) return { native: collation ? `${nativeType} ${collation}` : nativeType }
  const inKey = keyParts > 0
  const bytes = inKey ? Math.floor(INDEX_BYTES / keyParts) : 0
  const characters = Math.min(KEY_TEXT, Math.floor(bytes / 4))
  const text = inKey ? `varchar(${characters}) ${EXACT}` : `longtext ${EXACT}`
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
        remedy: 'Nothing need be done where there are none.',
      }
    case 'decimal':
      return type.precision === undefined || type.precision > 65 || !isScale(type)
        ? { native: text, note: 'kept as text: it may be longer than 65 digits' }
        : { native: `decimal(${type.precision},${type.scale ?? 0})` }
    case 'utf8':
    case 'json':
      return { native: text, ...(inKey ? tooLong(nativeType, characters) : {}) }
    case 'binary':
      return {
        native: inKey ? `varbinary(${bytes})` : 'longblob',
        ...(inKey ? tooLong(nativeType, bytes) : {}),
      }
    case 'uuid':
      return {
        native: 'char(36) CHARACTER SET ascii COLLATE ascii_bin',
        note: 'kept as text: the type uuid there does not take every value',
        remedy: 'Nothing need be done; compare it as text in lower case.',
      }
    case 'date':
      return { native: 'date', note: `${OUT_OF_RANGE}`, remedy: 'Nothing need be done where there are none.' }
    case 'timestamp':
      return {
        native: 'datetime(6)',
        note: `${type.zoned ? 'in UTC, without a zone: timestamps end in 2038 there; ' : ''}${OUT_OF_RANGE}`,
        remedy: 'Nothing need be done where there are none.',
      }
    case 'list':
      return {
        native: text,
        note: 'kept as a JSON array of texts, without lower bounds',
        ...(inKey ? { refused: 'lists in a key could not be told apart by their bounds' } : {}),
      }
    default:
      return { native: text, note: `kept as text: there is no counterpart of ${type.kind}` }
  }
}

const OUT_OF_RANGE =
  'years before 1 and after 9999, and infinity, do not fit there and would stop the pipeline'

function isScale({ precision = 0, scale = 0 }: { precision?: number; scale?: number }): boolean {
  return scale >= 0 && scale <= 38 && scale <= precision
}

/** What a key's column may hold of a type that says how long its values are, such as `varchar(40)`, or does not. */
function tooLong(nativeType: string, most: number): Partial<MappedType> {
  const longest = Number(/\((\d+)\)$/.exec(nativeType)?.[1] ?? Infinity)
  if (longest <= most) return {}
  return {
    note: `at most ${most} long, as it is part of the key; a longer value would stop the pipeline`,
    remedy: 'Nothing need be done where there are none.',
  }
}
