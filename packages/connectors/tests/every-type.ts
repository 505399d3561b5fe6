/** Values of every type, with the traps that each has. */

/** Column name, type, values as SQL, and what DuckDB must then say. The first value is for row 1, and so on. */
export const TYPES: [string, string, [sql: string, landed: string | null][]][] = [
  [
    'b',
    'boolean',
    [
      ['true', 'true'],
      ['false', 'false'],
    ],
  ],
  [
    'i2',
    'smallint',
    [
      ["'-32768'", '-32768'],
      ['32767', '32767'],
    ],
  ],
  [
    'i4',
    'integer',
    [
      ["'-2147483648'", '-2147483648'],
      ['2147483647', '2147483647'],
    ],
  ],
  [
    'i8',
    'bigint',
    [
      ["'-9223372036854775808'", '-9223372036854775808'],
      ['9223372036854775807', '9223372036854775807'],
    ],
  ],
  [
    'f4',
    'real',
    [
      ["'1.1'", '1.1'],
      ["'NaN'", 'nan'],
    ],
  ],
  [
    'f8',
    'double precision',
    [
      ["'-Infinity'", '-inf'],
      ['0.1', '0.1'],
      ['1.7976931348623157e308', '1.7976931348623157e+308'],
    ],
  ],
  [
    'd38',
    'numeric(38,10)',
    [
      ['9999999999999999999999999999.9999999999', '9999999999999999999999999999.9999999999'],
      ['-0.0000000001', '-0.0000000001'],
    ],
  ],
  [
    'd',
    'numeric',
    [
      [
        '123456789012345678901234567890.123456789012345678901234567890',
        '123456789012345678901234567890.123456789012345678901234567890',
      ],
      ["'NaN'", 'NaN'],
    ],
  ],
  [
    't',
    'text',
    [
      ["''", ''],
      [`E'a,"b"\\n\\\\N\\r\\t'`, 'a,"b"\n\\N\r\t'],
      [`'NULL'`, 'NULL'],
      [`'\\.'`, '\\.'],
      [`'🌱 Übergrößenträger'`, '🌱 Übergrößenträger'],
    ],
  ],
  ['v', 'varchar(20)', [[`' padded '`, ' padded ']]],
  ['c', 'char(4)', [[`'ab'`, 'ab  ']]],
  [
    'y',
    'bytea',
    [
      [`'\\x00ff0a22'`, '\\x00\\xFF\\x0A\\x22'],
      [`''`, ''],
    ],
  ],
  [
    'da',
    'date',
    [
      ["'0044-03-15 BC'", '0044-03-15 (BC)'],
      ["'infinity'", 'infinity'],
      ["'5874897-12-31'", '5874897-12-31'],
      ["'-infinity'", '-infinity'],
    ],
  ],
  [
    'ti',
    'time',
    [
      ["'24:00:00'", '24:00:00'],
      ["'00:00:00.000001'", '00:00:00.000001'],
    ],
  ],
  ['tz', 'timetz', [["'12:30:00.5+02'", '12:30:00.5+02']]],
  [
    'ts',
    'timestamp',
    [
      ["'0044-03-15 12:00:00.5 BC'", '0044-03-15 (BC) 12:00:00.5'],
      ["'infinity'", 'infinity'],
      ["'2026-11-23 01:02:03.123456'", '2026-11-23 01:02:03.123456'],
    ],
  ],
  [
    'tsz',
    'timestamptz',
    [
      ["'2026-11-23 01:02:03.123456+05'", '2026-11-22 20:02:03.123456+00'],
      ["'-infinity'", '-infinity'],
      ["'0001-01-01 00:00:00+00 BC'", '0001-01-01 (BC) 00:00:00+00'],
    ],
  ],
  [
    'iv',
    'interval',
    [
      ["'1 year 2 months -3 days 04:05:06.789'", '1 year 2 months -3 days 04:05:06.789'],
      ["'-1 month'", '-1 month'],
    ],
  ],
  ['u', 'uuid', [["'0b4cbe37-1c4c-4b8b-8a57-0123456789ab'", '0b4cbe37-1c4c-4b8b-8a57-0123456789ab']]],
  [
    'j',
    'json',
    [
      [`'{"a":1, "a":2, "n":1.10}'`, '{"a":1, "a":2, "n":1.10}'],
      [`'null'`, 'null'],
    ],
  ],
  [
    'jb',
    'jsonb',
    [[`'{"b":[1,null], "a":12345678901234567890.10}'`, '{"a": 12345678901234567890.10, "b": [1, null]}']],
  ],
  [
    'ai',
    'integer[]',
    [
      ["'{1,NULL,3}'", '[1, NULL, 3]'],
      ["'{}'", '[]'],
    ],
  ],
  ['at', 'text[]', [[`ARRAY['a,b', 'c"d', '', NULL, 'NULL', 'x\\y', '{']`, null]]],
  ['ad', 'numeric(6,2)[]', [["'{1.10,-2}'", '[1.10, -2.00]']]],
  ['ats', 'timestamptz[]', [["'{2026-11-23 01:02:03+00}'", "['2026-11-23 01:02:03+00']"]]],
  ['e', 'mood', [["'so so'", 'so so']]],
  ['n', 'inet', [["'10.1.2.3/8'", '10.1.2.3/8']]],
]
export const ROWS = Math.max(...TYPES.map(([, , values]) => values.length))

export function insertTypes(table: string, columns: string[] = []): string {
  const rows = Array.from(
    { length: ROWS + 1 },
    (_, row) =>
      `(${row}, ${TYPES.map(([, type, values]) => (values[row] ? `${values[row][0]}::${type}` : 'NULL')).join(', ')})`,
  )
  return `INSERT INTO ${table}${columns.length > 0 ? ` (${columns.join(', ')})` : ''} VALUES ${rows.join(', ')}`
}
