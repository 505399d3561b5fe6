/** The type of a column of an answer, by the name that its database has for it. */
import type { LogicalType } from '../records/types.ts'

const INTS: Record<string, 8 | 16 | 32 | 64> = {
  tinyint: 8,
  smallint: 16,
  int2: 16,
  mediumint: 32,
  int: 32,
  integer: 32,
  int4: 32,
  bigint: 64,
  int8: 64,
}

const OTHERS: Record<string, LogicalType> = {
  bool: { kind: 'bool' },
  boolean: { kind: 'bool' },
  hugeint: { kind: 'decimal' },
  numeric: { kind: 'decimal' },
  decimal: { kind: 'decimal' },
  real: { kind: 'float', bits: 32 },
  float: { kind: 'float', bits: 32 },
  float4: { kind: 'float', bits: 32 },
  double: { kind: 'float', bits: 64 },
  'double precision': { kind: 'float', bits: 64 },
  float8: { kind: 'float', bits: 64 },
  date: { kind: 'date' },
  timestamp: { kind: 'timestamp', zoned: false },
  datetime: { kind: 'timestamp', zoned: false },
  timestamptz: { kind: 'timestamp', zoned: true },
  'timestamp with time zone': { kind: 'timestamp', zoned: true },
  'timestamp without time zone': { kind: 'timestamp', zoned: false },
  uuid: { kind: 'uuid' },
  json: { kind: 'json' },
  jsonb: { kind: 'json' },
}

/** What is not known is text. */
export function answerType(native: string): LogicalType {
  const name = native
    .toLowerCase()
    .replace(/\([^)]*\)/, '')
    .replace(/\s+/g, ' ')
    .trim()
  const bits = INTS[name]
  if (bits) return { kind: 'int', bits, signed: true }
  const digits = /^(?:numeric|decimal)\((\d+),\s*(\d+)\)$/i.exec(native.trim())
  if (digits) return { kind: 'decimal', precision: Number(digits[1]), scale: Number(digits[2]) }
  return OTHERS[name] ?? { kind: 'utf8' }
}
