import { Type } from 'typebox'

/**
 * Logical types, after the vocabulary of Apache Arrow: what a value *is*, whatever system holds it.
 * https://arrow.apache.org/docs/format/Columnar.html
 */
export type LogicalType =
  | { kind: 'bool' | 'utf8' | 'binary' | 'date' | 'uuid' | 'json' | 'interval' }
  | { kind: 'int'; bits: 8 | 16 | 32 | 64; signed: boolean }
  | { kind: 'float'; bits: 32 | 64 }
  /** Without precision and scale: as many digits as it likes. */
  | { kind: 'decimal'; precision?: number; scale?: number }
  /** `zoned` times carry an offset. Microseconds. */
  | { kind: 'time' | 'timestamp'; zoned: boolean }
  /** `delimiter`: what stands between its elements in canonical text, where that is no comma. */
  | { kind: 'list'; of: LogicalType; delimiter?: string }
  /** A type we carry as the source prints it. */
  | { kind: 'other'; native: string }

/** It refers to itself, which is more than its type could be made of. */
export const logicalTypeSchema = Type.Unsafe<LogicalType>(
  Type.Object({ kind: Type.String() }, { additionalProperties: true }),
)

/** A logical type in words, for example `decimal(8,2)` or `list of int64`. */
export function printType(type: LogicalType): string {
  switch (type.kind) {
    case 'int':
      return `${type.signed ? '' : 'u'}int${type.bits}`
    case 'float':
      return `float${type.bits}`
    case 'decimal':
      return type.precision === undefined
        ? 'decimal without limits'
        : `decimal(${type.precision},${type.scale ?? 0})`
    case 'time':
    case 'timestamp':
      return type.zoned ? `${type.kind} with zone` : type.kind
    case 'list':
      return `list of ${printType(type.of)}`
    case 'other':
      return type.native
    default:
      return type.kind
  }
}
