/** What a source is asked for holds every row of a scope, whatever its collations and its idea of null. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { Column } from '@tide/core/records/column'
import type { LogicalType } from '@tide/core/records/types'
import type { Condition } from '@tide/core/scope/condition'
import { predicateOf } from '@tide/core/scope/predicate'
import { prefilterOf, type PrefilterDialect } from '@tide/core/scope/prefilter'
import fc from 'fast-check'
import type pg from 'pg'
import type { Session } from '../src/mariadb/client.ts'
import { PREFILTER as MARIADB } from '../src/mariadb/prefilter.ts'
import { canonicalColumn } from '../src/mariadb/sql.ts'
import { PREFILTER as POSTGRES } from '../src/postgres/prefilter.ts'
import { startRealMariadb, type RealMariadb } from './real-mariadb.ts'
import { startRealPostgres, type TestDatabase } from './real-postgres.ts'

interface Kind {
  nativeType: string
  type: LogicalType
  values: fc.Arbitrary<string>
  /** Beside its type, where the table is made. */
  as?: string
}
const INT: LogicalType = { kind: 'int', bits: 32, signed: true }
const whole = fc.integer({ min: -130, max: 130 }).map(String)
const text = fc.constantFrom(
  '',
  ' ',
  'a',
  'A',
  'a ',
  'ä',
  'b',
  'B',
  '%',
  '_',
  '\\',
  "'",
  '1',
  '01',
  'ab',
  '🌱',
)
const day = fc.constantFrom(
  '2026-01-01',
  '2026-11-28',
  '2026-02-29',
  '1999-12-31',
  '0999-01-01',
  '10000-01-01',
  'infinity',
)

const moment = fc.constantFrom(
  '2026-11-28 00:00:00',
  '2026-11-28 10:00:00.000001',
  '2026-11-28 10:00:00.5',
  '1999-12-31 23:59:59',
  '1066-10-14 09:00:00',
)

const POSTGRES_KINDS: Kind[] = [
  { nativeType: 'integer', type: INT, values: whole },
  { nativeType: 'bigint', type: { kind: 'int', bits: 64, signed: true }, values: whole },
  { nativeType: 'text', type: { kind: 'utf8' }, values: text },
  { nativeType: 'text', as: 'text COLLATE ignores_case', type: { kind: 'utf8' }, values: text },
  { nativeType: 'character varying(9)', type: { kind: 'utf8' }, values: text },
  { nativeType: 'character(4)', type: { kind: 'utf8' }, values: text },
  { nativeType: 'date', type: { kind: 'date' }, values: day.filter(value => value !== '2026-02-29') },
  {
    nativeType: 'timestamp with time zone',
    type: { kind: 'timestamp', zoned: true },
    values: moment.map(text => `${text}+00`),
  },
  { nativeType: 'timestamp without time zone', type: { kind: 'timestamp', zoned: false }, values: moment },
  { nativeType: 'boolean', type: { kind: 'bool' }, values: fc.constantFrom('t', 'f') },
]
const MARIADB_KINDS: Kind[] = [
  { nativeType: 'int(11)', type: INT, values: whole },
  {
    nativeType: 'tinyint(4)',
    type: { kind: 'int', bits: 8, signed: true },
    values: whole.filter(value => Math.abs(Number(value)) < 128),
  },
  {
    nativeType: 'varchar(9)',
    as: 'varchar(9) COLLATE utf8mb4_general_ci',
    type: { kind: 'utf8' },
    values: text,
  },
  { nativeType: 'char(4)', as: 'char(4) COLLATE utf8mb4_nopad_bin', type: { kind: 'utf8' }, values: text },
  {
    nativeType: 'varchar(9)',
    as: 'varchar(9) CHARACTER SET latin1',
    type: { kind: 'utf8' },
    values: text.filter(value => value !== '🌱'),
  },
  { nativeType: 'longtext', type: { kind: 'utf8' }, values: text },
  {
    nativeType: 'date',
    as: 'date',
    type: { kind: 'date' },
    values: fc.constantFrom('2026-01-01', '0000-00-00', '1999-12-31'),
  },
  { nativeType: 'datetime(6)', type: { kind: 'timestamp', zoned: false }, values: moment },
  {
    nativeType: 'timestamp(6)',
    as: 'timestamp(6) NULL',
    type: { kind: 'timestamp', zoned: true },
    values: moment.filter(text => text > '1971' && text < '2030'),
  },
]

const columnsOf = (kinds: readonly Kind[]): Column[] =>
  kinds.map(({ nativeType, type }, i) => ({ name: `c${i}`, nativeType, type, nullable: true }))

function conditions(kinds: readonly Kind[]): fc.Arbitrary<Condition> {
  const leaf = fc.oneof(
    ...kinds.map(({ type, values }, i) => {
      const column = `c${i}`
      const orders = ['is less than', 'is at most', 'is more than', 'is at least'] as const
      return fc.oneof(
        fc
          .tuple(
            fc.constantFrom(
              'equals' as const,
              'differs from' as const,
              ...(type.kind === 'bool' ? [] : orders),
            ),
            values,
          )
          .map(([op, value]): Condition => ({ column, op, value })),
        fc.boolean().map((isNull): Condition => ({ column, isNull })),
        fc.array(values, { minLength: 1, maxLength: 3 }).map((list): Condition => ({ column, in: list })),
      )
    }),
  )
  return fc.letrec<{ tree: Condition }>(tie => ({
    tree: fc.oneof(
      { maxDepth: 3 },
      leaf,
      fc.array(tie('tree'), { maxLength: 3 }).map((all): Condition => ({ all })),
      fc.array(tie('tree'), { maxLength: 3 }).map((any): Condition => ({ any })),
      tie('tree').map((not): Condition => ({ not })),
    ),
  })).tree
}

const rowsOf = (kinds: readonly Kind[]) =>
  fc.array(fc.tuple(...kinds.map(({ values }) => fc.option(values, { freq: 5 }))), {
    minLength: 1,
    maxLength: 12,
  })

/** `ask`: the rows that a condition lets through, with their numbers first. */
async function holds(
  kinds: readonly Kind[],
  dialect: PrefilterDialect,
  fill: (rows: (string | null)[][]) => Promise<void>,
  ask: (where: string) => Promise<(string | null)[][]>,
): Promise<void> {
  const columns = columnsOf(kinds)
  let made = 0
  await fc.assert(
    fc.asyncProperty(
      rowsOf(kinds),
      fc.array(conditions(kinds), { minLength: 5, maxLength: 5 }),
      async (rows, some) => {
        await fill(rows)
        const all = await ask('')
        for (const condition of some) {
          const predicate = predicateOf(condition, columns)
          // A value that the type does not have is refused by the plan.
          if ('message' in predicate) continue
          const prefilter = prefilterOf(condition, columns, dialect)
          if (prefilter === undefined) continue
          made++
          const through = new Set((await ask(` WHERE ${prefilter}`)).map(([n]) => n))
          for (const [n, ...row] of all)
            if (predicate.test(row) === true)
              expect([prefilter, row, through.has(n!)]).toEqual([prefilter, row, true])
        }
      },
    ),
    { numRuns: 250 },
  )
  expect(made).toBeGreaterThan(200)
}

let postgres: TestDatabase
let mariadb: RealMariadb
let client: pg.Client
let session: Session

beforeAll(async () => {
  ;[postgres, mariadb] = await Promise.all([startRealPostgres(), startRealMariadb()])
  client = await postgres.connect()
  session = await mariadb.connect()
  const as = (kinds: readonly Kind[]) =>
    kinds.map(({ as, nativeType }, i) => `c${i} ${as ?? nativeType}`).join(', ')
  await client.query(`SET TimeZone = 'UTC'; CREATE COLLATION ignores_case (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
    CREATE TABLE rows (n int, ${as(POSTGRES_KINDS)})`)
  await session.run(`SET sql_mode = 'ALLOW_INVALID_DATES'`)
  await session.run('CREATE DATABASE scoped')
  await session.run(`CREATE TABLE scoped.rows (n int, ${as(MARIADB_KINDS)})`)
}, 60_000)
afterAll(async () => {
  await client?.end()
  await session?.close()
  await Promise.all([postgres?.close(), mariadb?.close()])
})

test('of PostgreSQL', async () => {
  const columns = columnsOf(POSTGRES_KINDS)
  const texts = columns.map(({ name, type }) =>
    type.kind === 'bool' ? `left(${name}::text, 1)` : `${name}::text`,
  )
  await holds(
    POSTGRES_KINDS,
    POSTGRES,
    async rows => {
      await client.query('TRUNCATE rows')
      for (const [n, row] of rows.entries()) {
        const values = row.map((_, i) => `$${i + 2}`).join(', ')
        await client.query(`INSERT INTO rows VALUES ($1, ${values})`, [n, ...row])
      }
    },
    async where => {
      const { rows } = await client.query({
        text: `SELECT n::text, ${texts.join(', ')} FROM rows${where}`,
        rowMode: 'array',
      })
      return rows as (string | null)[][]
    },
  )
}, 120_000)

test('of MariaDB', async () => {
  const columns = columnsOf(MARIADB_KINDS)
  const texts = columns.map(({ name, type, nativeType }) => canonicalColumn(name, type, nativeType))
  const hex = (value: string | null) =>
    value === null ? 'NULL' : `CONVERT(x'${Buffer.from(value).toString('hex')}' USING utf8mb4)`
  await holds(
    MARIADB_KINDS,
    MARIADB,
    async rows => {
      await session.run('DELETE FROM scoped.rows')
      const values = rows.map((row, n) => `(${n}, ${row.map(hex).join(', ')})`)
      await session.run(`INSERT INTO scoped.rows VALUES ${values.join(', ')}`)
    },
    where => session.arrays(`SELECT n, ${texts.join(', ')} FROM scoped.rows${where}`),
  )
}, 120_000)
