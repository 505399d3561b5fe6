import type { LogicalType } from '../records/types.ts'
import type { MappedType } from './mapped.ts'

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

/** What `pg_type` and `pg_attribute` say of a column's type; of the base type where it is a domain. */
export interface PostgresTypeFacts {
  typname: string
  /** `atttypmod`. */
  typmod: number
  /** `typcategory`. */
  category: string
  /** Of the schema `pg_catalog`: others may have a type of the same name. */
  builtIn: boolean
  /** Of an array: its elements' type, what stands between them, and how many dimensions were declared. */
  element?: Pick<PostgresTypeFacts, 'typname' | 'category' | 'builtIn'>
  delimiter?: string
  dimensions?: number
}

/** The logical type of a PostgreSQL type. */
export function postgresType(facts: PostgresTypeFacts): LogicalType {
  const { typname, typmod, category, builtIn, element, delimiter, dimensions = 1 } = facts
  if (element) {
    let type: LogicalType = postgresType({ ...element, typmod })
    for (let i = 0; i < Math.max(1, dimensions); i++)
      type = { kind: 'list', of: type, ...(delimiter && delimiter !== ',' ? { delimiter } : {}) }
    return type
  }
  if (category === 'E') return { kind: 'utf8' }
  if (!builtIn) return typname === 'citext' ? { kind: 'utf8' } : { kind: 'other', native: typname }
  if (typname === 'numeric') return numericType(typmod)
  return FIXED[typname] ?? { kind: 'other', native: typname }
}

/** The type modifier of numeric packs precision and an 11-bit signed scale: `numerictypmodin` in numeric.c. */
function numericType(typmod: number): LogicalType {
  if (typmod < 4) return { kind: 'decimal' }
  const packed = typmod - 4
  const precision = (packed >> 16) & 0xffff
  const scale = ((packed & 0x7ff) ^ 1024) - 1024
  return { kind: 'decimal', precision, scale }
}

/** Types of every PostgreSQL, without their modifiers. Those that print by locale (money) are not among them. */
const BUILT_IN = new Set(
  `smallint integer bigint numeric real "double precision" text "character varying" character bytea boolean date
   "time without time zone" "time with time zone" "timestamp without time zone" "timestamp with time zone" interval uuid
   json jsonb inet cidr macaddr macaddr8 bit "bit varying" point line lseg box path polygon circle tsvector tsquery xml
   int4range int8range numrange tsrange tstzrange daterange int4multirange int8multirange nummultirange tsmultirange
   tstzmultirange datemultirange oid name`
    .match(/"[^"]+"|\S+/g)!
    .map(name => name.replaceAll('"', '')),
)

/** What a column becomes in PostgreSQL; a type that PostgreSQL itself named stays what it is where every server has it. */
export function postgresColumn(type: LogicalType, native?: string): MappedType {
  const plain = native?.replace(/\(.*?\)/, '').replace(/(\[\])+$/, '')
  if (plain !== undefined && BUILT_IN.has(plain)) return { native: native! }
  switch (type.kind) {
    case 'bool':
      return { native: 'boolean' }
    case 'int':
      return { native: integerType(type.bits, type.signed) }
    case 'float':
      return { native: type.bits === 32 ? 'real' : 'double precision' }
    case 'decimal':
      return {
        native: type.precision === undefined ? 'numeric' : `numeric(${type.precision},${type.scale ?? 0})`,
      }
    case 'utf8':
      return { native: 'text' }
    case 'binary':
      return { native: 'bytea' }
    case 'time':
    case 'timestamp':
      return { native: type.zoned ? `${type.kind} with time zone` : `${type.kind} without time zone` }
    case 'date':
    case 'interval':
    case 'uuid':
    case 'json':
      return { native: type.kind }
    case 'list': {
      const element = postgresColumn(type.of)
      return { native: `${element.native}[]`, ...(element.note ? { note: element.note } : {}) }
    }
    case 'other':
      return { native: 'text', note: `kept as text: there is no counterpart of ${type.native}` }
  }
}

function integerType(bits: 8 | 16 | 32 | 64, signed: boolean): string {
  if (bits === 8) return 'smallint'
  if (bits === 16) return signed ? 'smallint' : 'integer'
  if (bits === 32) return signed ? 'integer' : 'bigint'
  return signed ? 'bigint' : 'numeric(20,0)'
}
