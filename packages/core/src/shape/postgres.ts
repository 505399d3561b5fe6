import type { LogicalType } from '../records/types.ts'

const FIXED: Record<string, LogicalType> = {
  bool: { kind: 'bool' },
  int2: { kind: 'int', bits: 16, signed: true },
  int4: { kind: 'int', bits: 32, signed: true },
  int8: { kind: 'int', bits: 64, signed: true },
  oid: { kind: 'int', bits: 32, signed: false },
  float4: { kind: 'float', bits: 32 },
  float8: { kind: 'float', bits: 64 },
  text: { kind: 'utf8' },
  varchar: { kind: 'utf8' },
  bpchar: { kind: 'utf8' },
  name: { kind: 'utf8' },
  citext: { kind: 'utf8' },
  bytea: { kind: 'binary' },
  date: { kind: 'date' },
  time: { kind: 'time', zoned: false },
  timetz: { kind: 'time', zoned: true },
  timestamp: { kind: 'timestamp', zoned: false },
  timestamptz: { kind: 'timestamp', zoned: true },
  interval: { kind: 'interval' },
  uuid: { kind: 'uuid' },
  json: { kind: 'json' },
  jsonb: { kind: 'json' },
}

/**
 * The logical type of a PostgreSQL type, from `pg_type.typname`, `atttypmod` and `pg_type.typcategory`
 * (of the base type where it is a domain). `typname` of an array begins with an underscore.
 */
export function postgresType(typname: string, typmod: number, category: string): LogicalType {
  if (category === 'A' && typname.startsWith('_')) {
    return { kind: 'list', of: postgresType(typname.slice(1), typmod, '') }
  }
  if (typname === 'numeric') return numericType(typmod)
  return FIXED[typname] ?? (category === 'E' ? { kind: 'utf8' } : { kind: 'other', native: typname })
}

/** The type modifier of numeric packs precision and an 11-bit signed scale: `numerictypmodin` in numeric.c. */
function numericType(typmod: number): LogicalType {
  if (typmod < 4) return { kind: 'decimal' }
  const packed = typmod - 4
  const precision = (packed >> 16) & 0xffff
  const scale = ((packed & 0x7ff) ^ 1024) - 1024
  return { kind: 'decimal', precision, scale }
}
