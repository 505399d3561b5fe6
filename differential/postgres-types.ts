/** Types of PostgreSQL with their edges. https://www.postgresql.org/docs/15/datatype.html */
import { chance, cut, digits, HOSTILE, text } from './chance.ts'
import { from, type Family, type TypeSpec } from './types.ts'

export function literal(value: string): string {
  const quoted = `'${value.replaceAll("'", "''")}'`
  return value.includes('\\') ? `E${quoted.replaceAll('\\', '\\\\')}` : quoted
}

const typed = (sql: string, value: (n: number) => string) => (n: number) => `${literal(value(n))}::${sql}`
const all = (sql: string, values: readonly string[]) => values.map(value => `${literal(value)}::${sql}`)

function plain(
  sql: string,
  family: Family,
  value: (n: number) => string,
  more: Partial<TypeSpec> & { wildTexts?: string[] } = {},
): TypeSpec {
  const { wildTexts, ...rest } = more
  return {
    sql,
    family,
    value: typed(sql, value),
    ...rest,
    ...(wildTexts ? { wild: all(sql, wildTexts) } : {}),
  }
}

const signed = (bits: number) => (n: number) => {
  const random = chance(n)
  const value = BigInt(`0x${random.hex(bits / 4)}`) - 2n ** BigInt(bits - 1)
  return String(value)
}

const int = (sql: string, bits: number) =>
  plain(
    sql,
    'number',
    from(
      [
        '0',
        '1',
        '-1',
        String(2n ** BigInt(bits - 1) - 1n),
        String(-(2n ** BigInt(bits - 1))),
        '10',
        '9',
        '-9',
      ],
      signed(bits),
    ),
    { keyable: true },
  )

const FLOATS = [
  '0',
  '1',
  '-1',
  '1.1',
  '0.1',
  '-0',
  '1e-5',
  '100000',
  '1e15',
  '1e16',
  '123456789',
  '0.3333333',
]

function numeric(precision: number, scale: number): TypeSpec {
  const whole = precision - scale
  const make = (left: string, right: string, minus: boolean) => {
    if (scale <= 0) return `${minus ? '-' : ''}${left || '0'}${'0'.repeat(-scale)}`
    return `${minus ? '-' : ''}${left || '0'}.${right}`
  }
  const edges = [
    '0',
    make('1'.slice(0, Math.max(0, whole)), '0'.repeat(Math.max(0, scale)), false),
    make('9'.repeat(Math.max(0, scale < 0 ? precision : whole)), '9'.repeat(Math.max(0, scale)), false),
    make('9'.repeat(Math.max(0, scale < 0 ? precision : whole)), '9'.repeat(Math.max(0, scale)), true),
  ]
  return plain(
    `numeric(${precision},${scale})`,
    'number',
    from(edges, n => {
      const random = chance(n)
      const left = digits(random, random.below(Math.max(0, scale < 0 ? precision : whole) + 1))
      // Where there are more digits behind the point than in all, those next to it are zeros.
      const right = digits(random, Math.max(0, Math.min(scale, precision))).padStart(Math.max(0, scale), '0')
      return make(left.replace(/^0+(?=\d)/, ''), right, random.chance(0.5))
    }),
    { keyable: true, wildTexts: ['NaN'] },
  )
}

const UNBOUNDED = [
  '0',
  '1',
  '1.0',
  '1.00',
  '-0.0',
  '123456789012345678901234567890.123456789012345678901234567890',
  '0.00000000000000000000000000000000000000000000000001',
  `1${'0'.repeat(200)}`,
  'NaN',
  'Infinity',
  '-Infinity',
]

const strings = (sql: string, most: number, more: Partial<TypeSpec> = {}) =>
  plain(sql, 'text', n => cut(text(n, most).replaceAll('\0', ''), most), more)

const bytes = (n: number) => {
  const random = chance(n)
  const edges = ['', '00', 'ff', '5c', '5c78', '0a', '22', '2c', '00ff0a22', 'c3', 'f09f8cb1']
  return `\\x${n % 2 ? random.pick(edges) : random.hex(2 * random.below(random.chance(0.02) ? 9000 : 12))}`
}

const two = (n: number) => String(n).padStart(2, '0')
const day = (n: number) => {
  const random = chance(n)
  const year = random.pick([1, 44, 1000, 1582, 1899, 1900, 1969, 1970, 2000, 2024, 2026, 2038, 9999])
  return `${String(year).padStart(4, '0')}-${two(1 + random.below(12))}-${two(1 + random.below(28))}`
}
const clock = (n: number, digitsBehind = 6) => {
  const random = chance(n)
  const fraction = random
    .pick(['', '', '.5', '.000001', '.999999', `.${digits(random, 6)}`])
    .slice(0, digitsBehind + 1)
  return `${two(random.below(24))}:${two(random.below(60))}:${two(random.below(60))}${fraction === '.' ? '' : fraction}`
}
const DAYS = ['2026-11-23', '0001-01-01', '9999-12-31', '2024-02-29', '1970-01-01', '1900-02-28']
const DAYS_WILD = ['infinity', '-infinity', '0044-03-15 BC', '4713-01-01 BC', '12026-01-01', '5874897-12-31']
const STAMPS = [
  '2026-11-23 01:02:03',
  '2026-11-23 01:02:03.1',
  '2026-11-23 01:02:03.123456',
  '1970-01-01 00:00:00',
  '1969-12-31 23:59:59.999999',
  '0001-01-01 00:00:00',
  '9999-12-31 23:59:59.999999',
  '2016-12-31 23:59:60',
]
const STAMPS_WILD = ['infinity', '-infinity', '0044-03-15 12:00:00.5 BC', '12026-01-01 00:00:00.000001']
const TIMES = ['00:00:00', '23:59:59.999999', '24:00:00', '12:30:00.5', '00:00:00.000001']
const INTERVALS = [
  '0',
  '1 day',
  '-1 month',
  '1 year 2 mons -3 days 04:05:06.789',
  '-1 days +02:03:04',
  '100000 hours',
  '-00:00:00.000001',
  '1 mon -1 day',
  '30 days',
  '1 mon',
]

const json = (n: number) => {
  const random = chance(n)
  const deep = 1 + random.below(60)
  return random.pick([
    '{}',
    'null',
    '"a"',
    '1',
    '1.10',
    '[]',
    '{"a":1, "a":2, "n":1.10}',
    '{"b":[1,null], "a":12345678901234567890.10}',
    JSON.stringify({ [random.pick(HOSTILE.filter(one => !one.includes('\0')))]: random.pick(HOSTILE) }),
    `${'['.repeat(deep)}${']'.repeat(deep)}`,
    ' { "sp" : true } ',
    '"\\u00e9\\n"',
  ])
}

const uuid = (n: number) => {
  const hex = chance(n).hex(32)
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`
}

/** A list of elements of a type; `dimensions` are declared, and kept to but in wild cases. */
function list(element: TypeSpec, dimensions = 1): TypeSpec {
  const sql = `${element.sql}${'[]'.repeat(dimensions)}`
  const value = (n: number) => {
    const random = chance(n)
    const item = () => (random.chance(0.25) ? `NULL::${element.sql}` : element.value(random.below(1000)))
    if (n % 7 === 0) return `'{}'::${sql}`
    const length = 1 + random.below(4)
    const flat = () => `ARRAY[${Array.from({ length }, item).join(', ')}]::${element.sql}[]`
    if (dimensions === 1) return flat()
    return `ARRAY[${Array.from({ length: 1 + random.below(2) }, flat).join(', ')}]`
  }
  const wild = [
    `ARRAY[ARRAY[${element.value(1)}], ARRAY[${element.value(2)}]]::${element.sql}[]`,
    `('[3:4]=' || ARRAY[${element.value(1)}, ${element.value(2)}]::${element.sql}[]::text)::${element.sql}[]`,
  ]
  return { sql, family: 'list', element: element.family, value, wild }
}

const printed = (sql: string, values: readonly string[], more: Partial<TypeSpec> = {}) =>
  plain(sql, 'printed', n => values[n % values.length]!, more)

/** Types that each case's schema brings along. */
export const PRELUDE = [
  `CREATE TYPE mood AS ENUM ('well', 'so so', '"quoted"', 'it''s, {odd}', '\\')`,
  `CREATE TYPE "Spot" AS (x int, "the y" text)`,
  `CREATE DOMAIN short AS varchar(5)`,
  `CREATE DOMAIN price AS numeric(8,2) CHECK (VALUE IS NULL OR VALUE > -99999)`,
  `CREATE DOMAIN many AS int[]`,
]

const BOX = printed('box', ['(1,1),(0,0)', '(2,3),(-1,0.5)', '(1e10,1),(0,0)'])
const BOOL = plain('boolean', 'bool', n => (n % 2 ? 'true' : 'false'), { keyable: true })
const TEXT = strings('text', 1_000_000)
const MOOD: TypeSpec = {
  sql: 'mood',
  family: 'text',
  keyable: true,
  value: n => `${literal(['well', 'so so', '"quoted"', "it's, {odd}", '\\'][n % 5]!)}::mood`,
}
const FLOAT8 = plain(
  'double precision',
  'float64',
  from([...FLOATS, '1.7976931348623157e308', '5e-324'], n =>
    String((chance(n).next() - 0.5) * 10 ** chance(n + 1).below(300)),
  ),
  {
    keyable: true,
    wildTexts: ['NaN', 'Infinity', '-Infinity'],
  },
)
const BPCHAR = (length: number) =>
  plain(`char(${length})`, 'padded', n => cut(text(n, length).trimEnd(), length), { keyable: true })
const STAMPTZ = plain(
  'timestamptz',
  'timestamptz',
  from(STAMPS.map(one => `${one}+00`).concat('2026-11-23 01:02:03.5+05:30'), n => `${day(n)} ${clock(n)}+00`),
  {
    keyable: true,
    wildTexts: STAMPS_WILD,
  },
)

export const POSTGRES_TYPES: readonly TypeSpec[] = [
  int('integer', 32),
  TEXT,
  int('bigint', 64),
  int('smallint', 16),
  BOOL,
  FLOAT8,
  plain(
    'real',
    'float32',
    from([...FLOATS, '3.4028235e38', '1e-45', '1.17549435e-38'], n =>
      String(Math.fround((chance(n).next() - 0.5) * 10 ** chance(n + 1).below(30))),
    ),
    {
      keyable: true,
      wildTexts: ['NaN', 'Infinity', '-Infinity'],
    },
  ),
  numeric(8, 2),
  numeric(38, 10),
  numeric(38, 0),
  numeric(40, 2),
  numeric(65, 30),
  numeric(66, 38),
  numeric(5, -2),
  numeric(3, 5),
  plain('numeric', 'printed', n => UNBOUNDED[n % UNBOUNDED.length]!, { keyable: true }),
  plain(
    'oid',
    'number',
    from(['0', '1', '4294967295'], n => String(chance(n).below(2 ** 32))),
  ),
  strings('varchar(20)', 20, { keyable: true }),
  strings('varchar', 5000),
  strings('text COLLATE "C"', 60, { value: n => literal(text(n, 60)), keyable: true }),
  BPCHAR(4),
  BPCHAR(1),
  plain('"char"', 'printed', n => ['a', 'Z', ' ', '"', ',', ''][n % 6]!),
  strings('name', 15, { keyable: true }),
  strings('citext', 30, { keyable: true }),
  plain('bytea', 'binary', bytes, { keyable: true }),
  plain('date', 'date', from(DAYS, day), { keyable: true, wildTexts: DAYS_WILD }),
  plain(
    'time',
    'time',
    from(TIMES, n => clock(n)),
    { keyable: true },
  ),
  plain(
    'time(2)',
    'time',
    from(TIMES.slice(0, 4), n => clock(n, 2)),
  ),
  plain('timetz', 'printed', n => `${clock(n)}${['+00', '+02', '-05:30', '+15:59:59'][n % 4]}`),
  plain(
    'timestamp',
    'timestamp',
    from(STAMPS, n => `${day(n)} ${clock(n)}`),
    { keyable: true, wildTexts: STAMPS_WILD },
  ),
  plain(
    'timestamp(0)',
    'timestamp',
    from(STAMPS.slice(0, 4), n => `${day(n)} ${clock(n, 0)}`),
  ),
  STAMPTZ,
  plain(
    'interval',
    'interval',
    from(INTERVALS, n => `${signed(16)(n)} mons ${signed(16)(n + 1)} days ${signed(32)(n + 2)} seconds`),
    { keyable: true },
  ),
  plain('interval(2)', 'interval', n => INTERVALS[n % INTERVALS.length]!),
  plain(
    'uuid',
    'uuid',
    from(
      [
        '00000000-0000-0000-0000-000000000000',
        'ffffffff-ffff-ffff-ffff-ffffffffffff',
        '0B4CBE37-1c4c-4b8b-8a57-0123456789ab',
        '80000000-0000-0000-0000-000000000000',
      ],
      uuid,
    ),
    { keyable: true },
  ),
  plain('json', 'text', json),
  plain('jsonb', 'text', n => json(n).replaceAll('\\u0000', '')),
  MOOD,
  plain('short', 'text', n => cut(text(n, 5), 5)),
  plain('price', 'number', n => ['0', '1.50', '-99998.99', '999999.99'][n % 4]!),
  {
    ...list(int('integer', 32)),
    sql: 'many',
    value: n => `${list(int('integer', 32)).value(n)}::many`,
    wild: [],
  },
  printed('"Spot"', ['(1,a)', '(,)', '(-5,"a ""b"", (c)\\\\")', '(2,"")']),
  printed('inet', ['10.1.2.3/8', '10.1.2.3', '::1', '2001:db8::/32'], { keyable: true }),
  printed('cidr', ['10.0.0.0/8', '2001:db8::/32', '192.168.0.0/24']),
  printed('macaddr', ['08:00:2b:01:02:03', 'ff:ff:ff:ff:ff:ff']),
  printed('macaddr8', ['08:00:2b:01:02:03:04:05']),
  printed('bit(5)', ['10101', '00000', '11111'], { keyable: true }),
  printed('bit varying', ['', '1', '101010101010101010101']),
  printed('point', ['(1,2)', '(-1.5,1e10)', '(0.1,-0)']),
  printed('line', ['{1,2,3}', '{0.5,-1,0}']),
  printed('lseg', ['[(1,2),(3,4)]']),
  BOX,
  printed('path', ['[(1,2),(3,4)]', '((1,2),(3,4))']),
  printed('polygon', ['((1,2),(3,4),(5,6))']),
  printed('circle', ['<(1,2),3>']),
  printed('tsvector', [`'a' 'b'`, `'it''s':1A 'a,b':2`, '']),
  printed('tsquery', [`'a' & 'b'`, `!'c'`]),
  printed('xml', ['<a>1</a>', '<a b="c">&amp;</a>', 'text']),
  printed('int4range', ['[1,5)', 'empty', '(,7)', '(,)'], { keyable: true }),
  printed('numrange', ['[1.10,5.5]', 'empty', '(,)']),
  printed('tstzrange', ['["2026-11-23 01:02:03+00",)', 'empty']),
  printed('int4multirange', ['{[1,5),[7,9)}', '{}']),
  list(int('integer', 32)),
  list(TEXT),
  list(numeric(6, 2)),
  list(BOOL),
  list(plain('bytea', 'binary', bytes)),
  list(BOX),
  list(BPCHAR(3)),
  list(strings('varchar(9)', 9)),
  list(STAMPTZ),
  list(FLOAT8),
  list(plain('uuid', 'uuid', uuid)),
  list(plain('date', 'date', from(DAYS, day))),
  list(plain('interval', 'interval', n => INTERVALS[n % INTERVALS.length]!)),
  list(plain('json', 'text', json)),
  list(MOOD),
  list(plain('numeric', 'printed', n => UNBOUNDED[n % UNBOUNDED.length]!)),
  list(printed('inet', ['10.1.2.3/8', '::1'])),
  list(printed('"Spot"', ['(1,a)', '(,)', '(-5,"a ""b"", (c)\\\\")'])),
  list(
    plain(
      'time',
      'time',
      from(TIMES, n => clock(n)),
    ),
  ),
  list(int('integer', 32), 2),
  list(TEXT, 2),
]
