/** What expressions give is what PostgreSQL's own SQL gives for the same values, where both know the same thing. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { compileExpression, isFault, type ExpressionColumn } from '@tide/core/expression/compile'
import fc from 'fast-check'
import type pg from 'pg'
import { startRealPostgres, type RealPostgres } from './real-postgres.ts'

let server: RealPostgres
let client: pg.Client

beforeAll(async () => {
  server = await startRealPostgres()
  client = await server.connect()
  await client.query(`SET timezone = 'UTC'`)
}, 60_000)
afterAll(async () => {
  await client?.end()
  await server?.close()
})

const COLUMNS: ExpressionColumn[] = [
  { name: 'a', type: { kind: 'decimal', precision: 20, scale: 4 }, nullable: false },
  { name: 'b', type: { kind: 'decimal', precision: 20, scale: 2 }, nullable: false },
  { name: 'n', type: { kind: 'int', bits: 32, signed: true }, nullable: false },
  { name: 's', type: { kind: 'utf8' }, nullable: true },
  { name: 't', type: { kind: 'utf8' }, nullable: false },
  { name: 'at', type: { kind: 'timestamp', zoned: true }, nullable: false },
]

/** An expression, and the same in SQL. */
const PAIRS: [string, string][] = [
  ['a + b', 'a + b'],
  ['a - b * 3', 'a - b * 3'],
  ['a * b', 'a * b'],
  ['-a', '-a'],
  ['round(a, 2)', 'round(a, 2)'],
  ['round(a)', 'round(a)'],
  ['floor(a)', 'floor(a)'],
  ['abs(a)', 'abs(a)'],
  ['n / 7', 'n / 7'],
  ['n % 7', 'n % 7'],
  ['n + a', 'n + a'],
  ['a < b', 'a < b'],
  ['a == b || n >= 0', 'a = b OR n >= 0'],
  ['n in [0, 1, 2]', 'n IN (0, 1, 2)'],
  ['least(a, b)', 'least(a, b)'],
  ['greatest(n, 3)', 'greatest(n, 3)'],
  ['coalesce(s, t)', 'coalesce(s, t)'],
  ['has(s)', 's IS NOT NULL'],
  ['orNull(s + t)', 's || t'],
  ['orNull(s == t && n > 0)', 's = t AND n > 0'],
  ['orNull(s == t || n > 0)', 's = t OR n > 0'],
  ['orNull(s < t)', 's COLLATE "C" < t COLLATE "C"'],
  ['size(t)', 'length(t)'],
  ['left(t, 2)', 'left(t, 2)'],
  ['right(t, 2)', 'right(t, 2)'],
  ['substring(t, 1, 3)', 'substring(t from 2 for 2)'],
  ['replace(t, "a", "bb")', `replace(t, 'a', 'bb')`],
  ['t.startsWith("a")', `starts_with(t, 'a')`],
  ['contains(t, "a")', `position('a' in t) > 0`],
  ['part(t, "a", 1)', `split_part(t, 'a', 2)`],
  ['padLeft(t, size(t) + 2, "ab")', `'ab' || t`],
  ['text(n) + t', 'n::text || t'],
  ['year(at)', 'extract(year from at)::int'],
  ['hour(at)', 'extract(hour from at)::int'],
  ['text(startOf(at, "month"))', `to_char(date_trunc('month', at), 'YYYY-MM-DD HH24:MI:SS') || '+00'`],
  ['date(at)', 'at::date'],
]

const digits = (scale: number) =>
  fc.tuple(fc.bigInt({ min: -(10n ** 12n), max: 10n ** 12n }), fc.constant(scale)).map(([value, scale]) => {
    const text = String(value < 0n ? -value : value).padStart(scale + 1, '0')
    return `${value < 0n ? '-' : ''}${text.slice(0, -scale)}.${text.slice(-scale)}`
  })
const text = fc.string({
  unit: fc.constantFrom('a', 'b', 'B', 'é', ' ', '\u{1f331}', '\uffff', '1'),
  maxLength: 6,
})
const row = fc.tuple(
  digits(4),
  digits(2),
  fc.integer({ min: -1000, max: 1000 }).map(String),
  fc.option(text),
  text,
  fc
    .date({ min: new Date('0002-01-01'), max: new Date('9998-12-31'), noInvalidDate: true })
    .map(date => date.toISOString().replace('T', ' ').replace('Z', '+00')),
)

test.each(PAIRS)('%s is %s', async (expression, sql) => {
  const compiled = compileExpression(expression, COLUMNS, one => one)
  if (isFault(compiled)) throw new Error(compiled.message)
  const meta = { operation: '', committedAt: null, landedAt: '', position: null, origin: '', table: '' }
  // Zeros at the end of a number, and how true is written, are not what this is about.
  const canonical =
    compiled.type.kind === 'decimal' ? `trim_scale((${sql})::numeric)::text` : `(${sql})::text`
  const plain = (value: string | null) =>
    value === null
      ? null
      : compiled.type.kind === 'decimal'
        ? value.replace(/\.0*$|(\.\d*?)0+$/, '$1').replace(/^-(0)$/, '$1')
        : compiled.type.kind === 'bool'
          ? { t: 'true', f: 'false' }[value]!
          : value
  const rows = fc.sample(row, { numRuns: 150, seed: 42 })
  const { rows: answers } = await client.query<{ value: string | null }>(
    `SELECT ${canonical} AS value FROM jsonb_to_recordset($1) AS r(i int, a numeric(20,4), b numeric(20,2), n int, s text, t text, at timestamptz) ORDER BY i`,
    [JSON.stringify(rows.map(([a, b, n, s, t, at], i) => ({ i, a, b, n, s, t, at })))],
  )
  expect(rows.map(one => plain(compiled.of(one, meta)))).toEqual(answers.map(({ value }) => value))
})
