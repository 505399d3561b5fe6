import { Type, type Static } from 'typebox'

/**
 * Logical types, after the vocabulary of Apache Arrow: what a value *is*, whatever system holds it.
 * https://arrow.apache.org/docs/format/Columnar.html
 */
export const logicalTypeSchema = Type.Cyclic(
  {
    LogicalType: Type.Union([
      Type.Object({ kind: Type.Enum(['bool', 'utf8', 'binary', 'date', 'uuid', 'json', 'interval']) }),
      Type.Object({ kind: Type.Literal('int'), bits: Type.Enum([8, 16, 32, 64]), signed: Type.Boolean() }),
      Type.Object({ kind: Type.Literal('float'), bits: Type.Enum([32, 64]) }),
      /** Without precision and scale: as many digits as it likes. */
      Type.Object({
        kind: Type.Literal('decimal'),
        precision: Type.Optional(Type.Integer()),
        scale: Type.Optional(Type.Integer()),
      }),
      /** `zoned` times carry an offset. Microseconds. */
      Type.Object({ kind: Type.Enum(['time', 'timestamp']), zoned: Type.Boolean() }),
      /** `delimiter`: what stands between its elements in canonical text, where that is no comma. */
      Type.Object({
        kind: Type.Literal('list'),
        of: Type.Ref('LogicalType'),
        delimiter: Type.Optional(Type.String()),
      }),
      /** A type we carry as the source prints it. */
      Type.Object({ kind: Type.Literal('other'), native: Type.String() }),
    ]),
  },
  'LogicalType',
)

export type LogicalType = Static<typeof logicalTypeSchema>

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
    case 'utf8':
      return 'text'
    default:
      return type.kind
  }
}
