/** Single rows of PostgreSQL, written by what is kept in step. */
import { datasetId } from '@tide/core/records/dataset'
import type { Row } from '@tide/core/records/value'
import type { Pool, PoolClient } from 'pg'
import type { KeyedTable } from '../contract/records.ts'
import type { RowSide } from '../contract/rows.ts'
import { KEPT_DAYS, writeRows, type RowTransaction } from '../row-writing.ts'
import { tableName } from './catalogue.ts'
import { STATE_SCHEMA } from './state.ts'
import { MAKE_ALONE } from './target/ownership.ts'
import { ident, literal } from './text.ts'
import { inTransaction } from './transaction.ts'

const CALLS = `${STATE_SCHEMA}.call_answers`

const MAKE_CALLS = [
  MAKE_ALONE,
  `CREATE SCHEMA IF NOT EXISTS ${STATE_SCHEMA}`,
  `CREATE TABLE IF NOT EXISTS ${CALLS} (once text PRIMARY KEY, at timestamptz NOT NULL DEFAULT now(), answers text NOT NULL)`,
  `DELETE FROM ${CALLS} WHERE at < now() - interval '${KEPT_DAYS} days'`,
]

/** Of a value that is not taken: classes 22 and 23, what a trigger raises, and what the system alone may give. */
const REFUSED = /^(22|23)|^(P0001|428C9)$/

/** `pool`: of sessions that print canonical text. */
export function postgresRows(pool: Pool, guard: <T>(work: Promise<T>) => Promise<T>): RowSide {
  let made: Promise<void> | undefined
  const make = () =>
    inTransaction(pool, async client => {
      for (const statement of MAKE_CALLS) await client.query(statement)
    })
  return {
    ownKey: 'bigint GENERATED ALWAYS AS IDENTITY',
    truthIsNumber: false,
    make: statements =>
      guard(
        inTransaction(pool, async client => {
          for (const statement of statements) await client.query(statement)
        }),
      ),
    rights: () =>
      guard(
        pool
          .query<Record<string, string>>(
            `SELECT n.nspname, c.relname, has_table_privilege(c.oid, 'INSERT') AS i, has_table_privilege(c.oid, 'UPDATE') AS u,
                    has_table_privilege(c.oid, 'DELETE') AS d
               FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
              WHERE c.relkind IN ('r', 'p')`,
          )
          .then(
            ({ rows }) =>
              new Map(
                rows.map(({ nspname, relname, i, u, d }) => [
                  datasetId({ namespace: nspname!, name: relname! }),
                  { insert: i === 't', update: u === 't', delete: d === 't' },
                ]),
              ),
          ),
      ),
    write: async (table, operations, once) => {
      made ??= guard(make())
      await made.catch((thrown: unknown) => {
        made = undefined
        throw thrown
      })
      return guard(
        inTransaction(pool, async client => {
          // A constraint that would be looked at in the end says nothing of which row it is about.
          await client.query('SET CONSTRAINTS ALL IMMEDIATE')
          return writeRows(transactionOf(client, table), table, operations, once)
        }),
      )
    },
  }
}

function transactionOf(client: PoolClient, table: KeyedTable): RowTransaction {
  const key = ident(table.key[0]!)
  const name = tableName(table.dataset)
  const columns = table.columns.map(one => ident(one.name)).join(', ')
  const rows = async (text: string): Promise<Row[]> =>
    (await client.query<(string | null)[]>({ text, rowMode: 'array' })).rows
  return {
    run: async sql => (await client.query(sql)).rowCount ?? 0,
    rows,
    ident,
    literal,
    name,
    calls: CALLS,
    // Of no type yet, so that the column takes it as it takes any value, and refuses what does not fit.
    value: (_, text) => literal(text),
    locked: async of => {
      await client.query('SAVEPOINT tide_look')
      try {
        const [row] = await rows(`SELECT ${columns} FROM ${name} WHERE ${key} = ${literal(of)} FOR UPDATE`)
        return row
      } catch (thrown) {
        // It is no value of the key's type.
        if (!/^22/.test(codeOf(thrown))) throw thrown
        await client.query('ROLLBACK TO SAVEPOINT tide_look')
        return undefined
      }
    },
    insert: async (into, values) => {
      const list = into.length === 0 ? 'DEFAULT VALUES' : `(${into.join(', ')}) VALUES (${values.join(', ')})`
      const [row] = await rows(`INSERT INTO ${name} ${list} RETURNING ${key}`)
      return row![0]!
    },
    refusal: thrown => {
      if (!REFUSED.test(codeOf(thrown))) return undefined
      const { column, message, detail } = thrown as { column?: string; message: string; detail?: string }
      return { field: column ?? null, reason: detail ? `${message}. ${detail}` : `${message}.` }
    },
  }
}

function codeOf(thrown: unknown): string {
  return (thrown as { code?: string }).code ?? ''
}
