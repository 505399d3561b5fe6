/** Types of MariaDB with their edges. https://mariadb.com/kb/en/data-types/ */
import { chance, cut, digits, text } from './chance.ts'
import { from, type Family, type TypeSpec } from './types.ts'

/** A text, whatever it holds, under any `sql_mode`. */
export function literal(value: string): string {
  return value === '' ? `''` : `_utf8mb4 x'${Buffer.from(value).toString('hex')}'`
}

const bare = (
  sql: string,
  family: Family,
  value: (n: number) => string,
  more: Partial<TypeSpec> = {},
): TypeSpec => ({
  sql,
  family,
  value,
  ...more,
})
const quoted = (sql: string, family: Family, value: (n: number) => string, more: Partial<TypeSpec> = {}) =>
  bare(sql, family, n => `'${value(n)}'`, more)

function int(sql: string, bits: number, unsigned = false): TypeSpec {
  const [low, high] = unsigned
    ? [0n, 2n ** BigInt(bits) - 1n]
    : [-(2n ** BigInt(bits - 1)), 2n ** BigInt(bits - 1) - 1n]
  const random = (n: number) => String(low + (BigInt(`0x${chance(n).hex(16)}`) % (high - low + 1n)))
  return bare(
    `${sql}${unsigned ? ' unsigned' : ''}`,
    'number',
    from(['1', '0', '2', String(low), String(high), '10'], random),
    {
      keyable: true,
    },
  )
}

function decimal(precision: number, scale: number): TypeSpec {
  const whole = precision - scale
  const edges = ['0', '1', `${'9'.repeat(whole) || '0'}${scale ? `.${'9'.repeat(scale)}` : ''}`, '-0.5', '-1']
  const fits =
    scale > 0 && whole > 0 ? edges : edges.filter(one => (one.includes('.5') ? scale > 0 : whole > 0))
  return bare(
    `decimal(${precision},${scale})`,
    'number',
    from([...fits, `-${fits[2] ?? '0'}`], n => {
      const random = chance(n)
      const left = digits(random, random.below(whole + 1)) || '0'
      return `${random.chance(0.5) ? '-' : ''}${left}${scale ? `.${digits(random, scale)}` : ''}`
    }),
    { keyable: true },
  )
}

/** Characters that a character set has beside those of ASCII. */
const SPECIAL: Record<string, string> = {
  utf8mb4: '',
  utf8mb3: 'äßЖ日',
  latin1: 'äß€ÿ\u0081',
  latin2: 'Žľč',
  latin5: 'ğİı',
  latin7: 'ąčę',
  cp1250: 'Žľč€',
  cp1251: 'Привет€',
  cp1256: 'سلام',
  cp1257: 'ąčę',
  cp850: 'äß',
  cp852: 'Žľč',
  cp866: 'Привет',
  greek: 'αβγ',
  hebrew: 'שלום',
  koi8r: 'Привет',
  koi8u: 'Привіт',
  ascii: '',
  ucs2: 'äЖ日',
  utf16: 'äЖ日\u{1f331}',
  utf16le: 'äЖ日\u{1f331}',
  utf32: 'äЖ日\u{1f331}',
  sjis: '日本語ｱ',
  cp932: '日本語①',
  ujis: '日本語',
  eucjpms: '日本語①',
  euckr: '한국어',
  gb2312: '中文',
  gbk: '中文鎔',
  big5: '中文',
  tis620: 'ไทย',
  swe7: '',
  dec8: 'äß',
  hp8: 'ä',
  macroman: 'äß',
  macce: 'Žľč',
  keybcs2: 'Žľč',
  geostd8: 'აბგ',
  armscii8: 'աբգ',
}

function inCharset(charset: string, n: number, most: number): string {
  if (charset === 'utf8mb4') return text(n, most).replaceAll('\0', '')
  const random = chance(n)
  const plain = [...text(n, most)]
    .filter(one => one >= ' ' && one < (charset === 'swe7' ? '@' : '~'))
    .join('')
  const special = [...(SPECIAL[charset] ?? '')]
  const mixed =
    special.length > 0 && random.chance(0.7)
      ? `${random.pick(special)}${plain}${random.pick(special)}`
      : plain
  return cut(mixed, most)
}

function string(
  sql: string,
  most: number,
  charset: string,
  collation?: string,
  more: Partial<TypeSpec> = {},
): TypeSpec {
  return bare(
    `${sql} CHARACTER SET ${charset}${collation ? ` COLLATE ${collation}` : ''}`,
    sql.startsWith('char') ? 'padded' : 'text',
    n => literal(inCharset(charset, n, most)),
    more,
  )
}

const hex = (value: string) => (value === '' ? `''` : `x'${value}'`)
const bytes = (most: number) => (n: number) => {
  const random = chance(n)
  const edges = ['', '00', 'ff', '5c', '5c78', '0a', '22', '2c', '20', '00ff0a22', 'f09f8cb1', '0100', '0000']
  const value = n % 2 ? random.pick(edges) : random.hex(2 * random.below(random.chance(0.02) ? 9000 : 12))
  return hex(value.slice(0, most * 2))
}

const two = (n: number) => String(n).padStart(2, '0')
const day = (n: number) => {
  const random = chance(n)
  const year = random.pick([1000, 1582, 1899, 1970, 2000, 2024, 2026, 9999])
  return `${year}-${two(1 + random.below(12))}-${two(1 + random.below(28))}`
}
const clock = (n: number, behind: number) => {
  const random = chance(n)
  const fraction =
    behind === 0
      ? ''
      : random.pick(['', '.5', '.000001', '.999999', `.${digits(random, 6)}`]).slice(0, behind + 1)
  return `${two(random.below(24))}:${two(random.below(60))}:${two(random.below(60))}${fraction}`
}
const DAYS = ['2026-11-23', '1000-01-01', '9999-12-31', '2024-02-29', '1970-01-01']
const ZERO_DAYS = ['0000-00-00', '2026-00-00', '2026-11-00', '2026-02-31']

function stamps(
  sql: string,
  family: Family,
  behind: number,
  edges: readonly string[],
  wild: readonly string[],
): TypeSpec {
  return quoted(
    sql,
    family,
    from(edges, n =>
      family === 'timestamptz'
        ? `${2001 + (n % 30)}-0${1 + (n % 9)}-11 ${clock(n, behind)}`
        : `${day(n)} ${clock(n, behind)}`,
    ),
    { keyable: true, wild: wild.map(one => `'${one}'`) },
  )
}

const DATETIMES = ['2026-11-23 01:02:03', '1000-01-01 00:00:00', '9999-12-31 23:59:59', '1969-12-31 23:59:59']
const TIMES = ['00:00:00', '-838:59:59', '838:59:59', '24:00:00', '-00:00:01', '12:30:00']
const JSONS = ['{"a":1, "a":2}', 'null', '[]', '"x"', '1.10', '{"ä":[1,null,"\\\\u00e9"]}', ' [ 1 ] ']

const uuid = (n: number) => {
  const all = chance(n).hex(32)
  return `${all.slice(0, 8)}-${all.slice(8, 12)}-${all.slice(12, 16)}-${all.slice(16, 20)}-${all.slice(20)}`
}

export const MARIADB_TYPES: readonly TypeSpec[] = [
  int('int', 32),
  string('varchar(20)', 20, 'utf8mb4', undefined, { keyable: true }),
  int('tinyint', 8),
  int('tinyint', 8, true),
  int('smallint', 16),
  int('smallint', 16, true),
  int('mediumint', 24),
  int('mediumint', 24, true),
  int('int', 32, true),
  int('bigint', 64),
  int('bigint', 64, true),
  bare('boolean', 'number', n => String(n % 2), { keyable: true }),
  bare(
    'float',
    'float32',
    from(['0', '1', '1.1', '-3.4e38', '1e-37', '0.1', '16777217'], n =>
      String(Math.fround((chance(n).next() - 0.5) * 10 ** chance(n + 1).below(30))),
    ),
  ),
  bare(
    'double',
    'float64',
    from(['0', '1', '0.1', '-1.7976931348623157e308', '123456789.123456789', '1e-300', '1e16'], n =>
      String((chance(n).next() - 0.5) * 10 ** chance(n + 1).below(200)),
    ),
  ),
  decimal(8, 2),
  decimal(38, 10),
  decimal(9, 0),
  decimal(65, 30),
  decimal(65, 38),
  decimal(10, 10),
  decimal(18, 9),
  decimal(1, 0),
  bare('bit(10)', 'number', n => String(chance(n).below(1024)), { keyable: true }),
  bare('bit(1)', 'number', n => String(n % 2)),
  bare(
    'bit(64)',
    'number',
    from(['0', '18446744073709551615', '9223372036854775808'], n => String(chance(n).below(2 ** 31))),
  ),
  bare('year', 'number', n => ['2026', '0', '1901', '2155'][n % 4]!, { keyable: true }),
  string('char(4)', 4, 'utf8mb4', undefined, { keyable: true }),
  string('char(40)', 40, 'utf8mb4', 'utf8mb4_nopad_bin'),
  string('char(255)', 255, 'utf8mb4'),
  string('varchar(30)', 30, 'utf8mb4', 'utf8mb4_bin', { keyable: true }),
  string('varchar(30)', 30, 'utf8mb4', 'utf8mb4_nopad_bin', { keyable: true }),
  string('varchar(30)', 30, 'utf8mb4', 'utf8mb4_unicode_ci', { keyable: true }),
  string('varchar(30)', 30, 'utf8mb4', 'utf8mb4_german2_ci', { keyable: true }),
  string('varchar(30)', 30, 'utf8mb4', 'utf8mb4_uca1400_as_cs', { keyable: true }),
  string('varchar(30)', 30, 'utf8mb4', 'utf8mb4_general_nopad_ci', { keyable: true }),
  string('varchar(500)', 500, 'utf8mb4'),
  string('tinytext', 60, 'utf8mb4'),
  string('text', 15_000, 'utf8mb4'),
  string('mediumtext', 1_000_000, 'utf8mb4'),
  string('longtext', 1_000_000, 'utf8mb4'),
  ...Object.keys(SPECIAL).map(charset => string('varchar(20)', 20, charset, undefined, { keyable: true })),
  string('char(6)', 6, 'latin1', 'latin1_german1_ci', { keyable: true }),
  string('char(6)', 6, 'ucs2'),
  string('text', 1000, 'cp1251'),
  bare('varchar(200) COMPRESSED', 'text', n => literal(inCharset('utf8mb4', n, 200))),
  bare('text COMPRESSED', 'text', n => literal(inCharset('utf8mb4', n, 3000))),
  bare('blob COMPRESSED', 'binary', bytes(4000)),
  bare(`enum('well','so so','Ä','it''s','a,b')`, 'text', n => `${1 + (n % 5)}`, { keyable: true }),
  bare(`enum('größer','x') CHARACTER SET latin1`, 'text', n => `${1 + (n % 2)}`),
  bare(`set('a','b','ü','d e')`, 'text', n => String(n % 16), { keyable: true }),
  bare(`set(${Array.from({ length: 40 }, (_, i) => `'v${i}'`).join(',')})`, 'text', n =>
    String(chance(n).below(2 ** 31)),
  ),
  bare('binary(4)', 'binary', bytes(4), { keyable: true }),
  bare('binary(1)', 'binary', bytes(1)),
  bare('varbinary(30)', 'binary', bytes(30), { keyable: true }),
  bare('varbinary(300)', 'binary', bytes(300)),
  bare('tinyblob', 'binary', bytes(200)),
  bare('blob', 'binary', bytes(4000)),
  bare('longblob', 'binary', n => (n % 11 === 10 ? `REPEAT(x'00ff', 33000)` : bytes(4000)(n))),
  quoted('date', 'date', from(DAYS, day), { keyable: true, wild: ZERO_DAYS.map(one => `'${one}'`) }),
  stamps('datetime', 'timestamp', 0, DATETIMES, ['0000-00-00 00:00:00', '2026-00-00 01:00:00']),
  stamps(
    'datetime(6)',
    'timestamp',
    6,
    [...DATETIMES, '2026-11-23 01:02:03.123450', '1000-01-01 00:00:00.000001'],
    [],
  ),
  stamps('datetime(1)', 'timestamp', 1, DATETIMES, []),
  stamps('datetime(3)', 'timestamp', 3, DATETIMES, []),
  stamps(
    'timestamp',
    'timestamptz',
    0,
    ['2026-11-23 01:02:03', '1970-01-01 00:00:01', '2038-01-19 03:14:07'],
    ['0000-00-00 00:00:00'],
  ),
  stamps('timestamp(3)', 'timestamptz', 3, ['2026-11-23 01:02:03.120', '2026-11-23 01:02:03'], []),
  stamps('timestamp(6)', 'timestamptz', 6, ['2026-11-23 01:02:03.000001', '2026-11-23 01:02:03'], []),
  quoted(
    'time',
    'time',
    from(TIMES, n => clock(n, 0)),
  ),
  quoted(
    'time(6)',
    'time',
    from([...TIMES, '-00:00:00.000001', '12:30:00.500000'], n => clock(n, 6)),
  ),
  quoted(
    'time(2)',
    'time',
    from([...TIMES, '-01:02:03.45'], n => clock(n, 2)),
  ),
  bare('json', 'text', n => literal(JSONS[n % JSONS.length]!)),
  quoted(
    'uuid',
    'uuid',
    from(
      [
        '00000000-0000-0000-0000-000000000000',
        '0b4cbe37-1c4c-4b8b-8a57-0123456789ab',
        '01a1b2c3-d4e5-11ee-8c90-0242ac120002',
        'ffffffff-ffff-ffff-ffff-ffffffffffff',
      ],
      uuid,
    ),
    { keyable: true },
  ),
  // Left out by the plan; what stands beside them must come all the same.
  bare('point', 'binary', () => `ST_GeomFromText('POINT(1 2)')`),
  quoted('inet6', 'text', n => ['::1', '2001:db8::1'][n % 2]!),
  quoted('inet4', 'text', n => ['10.1.2.3', '0.0.0.0'][n % 2]!),
]
