/**
 * Column types of the binary log by their number: how many bytes of metadata a table map has for each, and in which order, and
 * what is known of its values. https://mariadb.com/kb/en/table_map_event/ and `Field::binlog_type_info` in the server's
 * sources.
 */
export const TINY = 1
export const SHORT = 2
export const LONG = 3
export const FLOAT = 4
export const DOUBLE = 5
export const OLD_TIMESTAMP = 7
export const LONGLONG = 8
export const INT24 = 9
export const DATE = 10
export const OLD_TIME = 11
export const OLD_DATETIME = 12
export const YEAR = 13
export const NEWDATE = 14
export const VARCHAR = 15
export const BIT = 16
export const TIMESTAMP = 17
export const DATETIME = 18
export const TIME = 19
export const COMPRESSED_BLOB = 140
export const COMPRESSED_VARCHAR = 141
export const JSON_TEXT = 245
export const DECIMAL = 246
export const ENUM = 247
export const SET = 248
export const BLOB = 252
export const VAR_STRING = 253
export const STRING = 254
export const GEOMETRY = 255

interface ColumnType {
  /** The form of its metadata: one byte, two of which the lower comes first, or the higher. */
  metadata?: 'byte' | 'little' | 'big'
  /** It can be unsigned, which a table map tells of such alone. */
  numeric?: true
  /** Its optional metadata has a collation. */
  text?: true
  /** Its values are turned into canonical text; others are only passed over. */
  readable?: true
}

const TYPES: Readonly<Record<number, ColumnType>> = {
  [TINY]: { numeric: true, readable: true },
  [SHORT]: { numeric: true, readable: true },
  [LONG]: { numeric: true, readable: true },
  [FLOAT]: { metadata: 'byte', numeric: true, readable: true },
  [DOUBLE]: { metadata: 'byte', numeric: true, readable: true },
  [OLD_TIMESTAMP]: { readable: true },
  [LONGLONG]: { numeric: true, readable: true },
  [INT24]: { numeric: true, readable: true },
  [DATE]: { readable: true },
  [YEAR]: { numeric: true, readable: true },
  [NEWDATE]: { readable: true },
  /** Its length in bytes. */
  [VARCHAR]: { metadata: 'little', text: true, readable: true },
  /** Bits over whole bytes, whole bytes. */
  [BIT]: { metadata: 'big', readable: true },
  /** Digits behind the second. */
  [TIMESTAMP]: { metadata: 'byte', readable: true },
  [DATETIME]: { metadata: 'byte', readable: true },
  [TIME]: { metadata: 'byte', readable: true },
  /** Bytes of the length before it. */
  [COMPRESSED_BLOB]: { metadata: 'byte', text: true, readable: true },
  [COMPRESSED_VARCHAR]: { metadata: 'little', text: true, readable: true },
  [JSON_TEXT]: { metadata: 'byte' },
  /** Precision, scale. */
  [DECIMAL]: { metadata: 'big', numeric: true, readable: true },
  /** The real type, a length. */
  [ENUM]: { metadata: 'big' },
  [SET]: { metadata: 'big' },
  [BLOB]: { metadata: 'byte', text: true, readable: true },
  [VAR_STRING]: { metadata: 'little', text: true, readable: true },
  [STRING]: { metadata: 'big', text: true, readable: true },
  [GEOMETRY]: { metadata: 'byte', text: true },
}

const UNKNOWN: ColumnType = {}

/** What is known of a type; of one that is not in the table, nothing. */
export function columnType(type: number): ColumnType {
  return TYPES[type] ?? UNKNOWN
}
