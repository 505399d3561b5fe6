/** A scope means what the source's own SQL would say of the same rows. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { LogicalType } from '@tide/core/records/types'
import type { Condition } from '@tide/core/scope/condition'
import { predicateOf } from '@tide/core/scope/predicate'
import fc from 'fast-check'
import type pg from 'pg'
import { startRealPostgres, type TestDatabase } from './real-postgres.ts'

let database: TestDatabase
let client: pg.Client

beforeAll(async () => {
  database = await startRealPostgres()
  client = await database.connect()
  await client.query(`SET TimeZone = 'UTC'; SET extra_float_digits = 1`)
}, 60_000)
afterAll(async () => {
  await client?.end()
  await database?.close()
})

interface Kind {
  native: string
  type: LogicalType
  values: fc.Arbitrary<string>
}
const digits = (most: number) => fc.stringMatching(new RegExp(`^-?(0|[1-9][0-9]{0,${most}})$`))
const year = fc.integer({ min: 1, max: 9999 }).map(n => String(n).padStart(4, '0'))
const two = (most: number) => fc.integer({ min: 1, max: most }).map(n => String(n).padStart(2, '0'))
const day = fc.tuple(year, two(12), two(28)).map(parts => parts.join('-'))
const clock = fc
  .tuple(two(23), two(59), two(59), fc.constantFrom('', '.5', '.500001', '.000001'))
  .map(([h, m, s, f]) => `${h}:${m}:${s}${f}`)
const moments = fc.oneof(
  fc.constantFrom(
    'infinity',
    '-infinity',
    '0044-03-15 00:00:00 BC',
    '0045-01-01 12:00:00 BC',
    '12026-01-01 00:00:00',
  ),
  fc.tuple(day, clock).map(([date, time]) => `${date} ${time}`),
)
const KINDS: Kind[] = [
  {
    native: 'numeric',
    type: { kind: 'decimal' },
    values: fc.oneof(
      fc.constantFrom('NaN', 'Infinity', '-Infinity', '-0', '0.00', '1.10', '1.1', '00012', '0.1', '-0.10'),
      digits(30),
      fc.tuple(digits(20), fc.stringMatching(/^[0-9]{1,20}$/)).map(parts => parts.join('.')),
    ),
  },
  { native: 'bigint', type: { kind: 'int', bits: 64, signed: true }, values: digits(17) },
  {
    native: 'double precision',
    type: { kind: 'float', bits: 64 },
    values: fc.oneof(fc.constantFrom('NaN', 'Infinity', '-Infinity', '-0', '1e-5'), fc.double().map(String)),
  },
  {
    native: 'text COLLATE "C"',
    type: { kind: 'utf8' },
    values: fc.oneof(
      fc.constantFrom(
        '',
        ' ',
        'a',
        'A',
        'a ',
        'ä',
        'é',
        'e\u0301',
        '\uffff',
        '\u{10000}',
        '\ue000',
        '%',
        '_',
        '\\',
      ),
      fc.string({ unit: 'grapheme', maxLength: 4 }).filter(text => !text.includes('\0')),
    ),
  },
  { native: 'timestamp', type: { kind: 'timestamp', zoned: false }, values: moments },
  {
    native: 'date',
    type: { kind: 'date' },
    values: fc.oneof(fc.constantFrom('infinity', '0044-03-15 BC'), day),
  },
  { native: 'time', type: { kind: 'time', zoned: false }, values: clock },
  { native: 'boolean', type: { kind: 'bool' }, values: fc.constantFrom('t', 'f') },
  {
    native: 'uuid',
    type: { kind: 'uuid' },
    values: fc.oneof(fc.uuid(), fc.constantFrom('A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11')),
  },
  {
    native: 'bytea',
    type: { kind: 'binary' },
    values: fc.stringMatching(/^([0-9a-f]{2}){0,4}$/).map(hex => `\\x${hex}`),
  },
]

const OPERATORS = {
  equals: '=',
  'differs from': '<>',
  'is less than': '<',
  'is at most': '<=',
  'is more than': '>',
  'is at least': '>=',
} as const

/** The same in SQL, by a translation of its own. */
function sqlOf(condition: Condition, native: string, literals: string[]): string {
  const within = (one: Condition) => sqlOf(one, native, literals)
  const literal = (value: string) => `CAST($${literals.push(value) + 1} AS ${native.split(' COLLATE')[0]})`
  const column = native.startsWith('text') ? `v COLLATE "C"` : 'v'
  if ('all' in condition) return `(${condition.all.map(within).join(' AND ') || 'TRUE'})`
  if ('any' in condition) return `(${condition.any.map(within).join(' OR ') || 'FALSE'})`
  if ('not' in condition) return `(NOT ${within(condition.not)})`
  if ('expression' in condition) throw new Error('expressions have a test of their own')
  if ('isNull' in condition) return `(v IS ${condition.isNull ? 'NULL' : 'NOT NULL'})`
  if ('in' in condition)
    return condition.in.length === 0
      ? '(v IS NULL AND NULL)'
      : `(${column} IN (${condition.in.map(literal).join(', ')}))`
  if (condition.op === 'starts with') return `starts_with(v, ${literal(condition.value)})`
  if (condition.op === 'contains') return `(strpos(v, ${literal(condition.value)}) > 0)`
  return `(${column} ${OPERATORS[condition.op]} ${literal(condition.value)})`
}

function conditions({ values, type }: Kind): fc.Arbitrary<Condition> {
  const { tree } = fc.letrec<{ tree: Condition; leaf: Condition }>(tie => ({
    leaf: fc.oneof(
      fc
        .tuple(fc.constantFrom(...(Object.keys(OPERATORS) as (keyof typeof OPERATORS)[])), values)
        .map(([op, value]): Condition => ({ column: 'v', op, value })),
      fc.constantFrom<Condition>({ column: 'v', isNull: true }, { column: 'v', isNull: false }),
      fc.array(values, { minLength: 1, maxLength: 3 }).map((list): Condition => ({ column: 'v', in: list })),
      ...(type.kind === 'utf8'
        ? [
            fc
              .tuple(fc.constantFrom('starts with' as const, 'contains' as const), values)
              .map(([op, value]): Condition => ({ column: 'v', op, value })),
          ]
        : []),
    ),
    tree: fc.oneof(
      { maxDepth: 3 },
      tie('leaf'),
      fc.array(tie('tree'), { maxLength: 3 }).map((all): Condition => ({ all })),
      fc.array(tie('tree'), { maxLength: 3 }).map((any): Condition => ({ any })),
      tie('tree').map((not): Condition => ({ not })),
    ),
  }))
  return tree
}

test.each(KINDS.map(kind => [kind.native, kind] as const))('of %s', async (_, kind) => {
  const valueOrNull = fc.oneof({ weight: 5, arbitrary: kind.values }, fc.constant(null))
  await fc.assert(
    fc.asyncProperty(
      fc.array(valueOrNull, { minLength: 1, maxLength: 20 }),
      conditions(kind),
      async (texts, condition) => {
        const literals: string[] = []
        const where = sqlOf(condition, kind.native, literals)
        const { rows } = await client.query<{ text: string | null; truth: boolean | null }>(
          `SELECT v::text AS text, ${where} AS truth
           FROM (SELECT t::${kind.native} AS v FROM unnest($1::text[]) WITH ORDINALITY u(t, n) ORDER BY n) s`,
          [texts, ...literals],
        )
        const predicate = predicateOf(condition, [{ name: 'v', type: kind.type, nullable: true }])
        if ('message' in predicate) throw new Error(predicate.message)
        const printed = rows.map(({ text }) => (kind.native === 'boolean' && text !== null ? text[0]! : text))
        expect(printed.map(text => predicate.test([text]))).toEqual(rows.map(({ truth }) => truth))
      },
    ),
    { numRuns: 300 },
  )
})
