/** MariaDB's quoting, and how its values are read as canonical text. */
import type { DatasetName } from '@tide/core/records/dataset'
import type { LogicalType } from '@tide/core/records/types'

export function ident(name: string): string {
  return `\`${name.replaceAll('`', '``')}\``
}

/** Quotes a string as a literal under the default `sql_mode`, and under NO_BACKSLASH_ESCAPES. */
export function literal(text: string): string {
  if (!text.includes('\\')) return `'${text.replaceAll("'", "''")}'`
  // An introducer leaves it a literal, whose collation yields to that of the column it is compared with.
  return `_utf8mb4 x'${Buffer.from(text).toString('hex')}'`
}

export function tableName({ namespace, name }: DatasetName): string {
  return `${ident(namespace)}.${ident(name)}`
}

/** Columns that hold text, whatever it stands for. */
export const TEXT = /^(char|varchar|tinytext|text|mediumtext|longtext|enum|set)\b/

/** A key's value, so that the index over its column is used; undefined: it is none of its type. */
export function keyLiteral(value: string, type: LogicalType, nativeType: string): string | undefined {
  if (TEXT.test(nativeType)) return literal(value)
  switch (type.kind) {
    case 'bool':
      return value === 't' ? 'TRUE' : 'FALSE'
    case 'int':
    case 'decimal':
      return /^-?\d+(\.\d+)?$/.test(value) ? value : undefined
    case 'float':
      return `CAST(${literal(value)} AS ${type.bits === 32 ? 'FLOAT' : 'DOUBLE'})`
    case 'binary':
      return /^\\x([0-9a-f]{2})*$/i.test(value) ? `x'${value.slice(2)}'` : undefined
    case 'timestamp':
      return literal(value.replace(/\+00$/, ''))
    default:
      return literal(value)
  }
}

/** What to select so that a column comes as canonical text; floats of 32 bits must still be rounded to their own. */
export function canonicalColumn(name: string, type: LogicalType, nativeType: string): string {
  const column = ident(name)
  if (TEXT.test(nativeType)) return `CAST(${column} AS CHAR)`
  switch (type.kind) {
    case 'bool':
      return `IF(${column} IS NULL, NULL, IF(${column}, 't', 'f'))`
    case 'binary':
      return `CONCAT('\\\\x', LOWER(HEX(${column})))`
    case 'float':
      return type.bits === 32 ? `CAST(${column} AS DOUBLE)` : column
    case 'int':
      return /^(bit|year)/.test(nativeType) ? `${column} + 0` : column
    case 'timestamp': {
      const text = withoutTrailingZeros(column, nativeType)
      return type.zoned ? `CONCAT(${text}, '+00')` : text
    }
    case 'other':
      return withoutTrailingZeros(column, nativeType)
    default:
      return `CAST(${column} AS CHAR)`
  }
}

function withoutTrailingZeros(column: string, nativeType: string): string {
  const text = `CAST(${column} AS CHAR)`
  return /\([1-6]\)$/.test(nativeType) ? `TRIM(TRAILING '.' FROM TRIM(TRAILING '0' FROM ${text}))` : text
}

/** The shortest decimal text that means this 32-bit float. */
export function float32Text(value: number): string {
  for (let digits = 6; digits < 9; digits++) {
    const text = String(Number(value.toPrecision(digits)))
    if (Math.fround(Number(text)) === value) return text
  }
  return String(Number(value.toPrecision(9)))
}
