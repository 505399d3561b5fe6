/** Single rows of MariaDB, written by what is kept in step. */
import { datasetId } from '@tide/core/records/dataset'
import type { KeyedTable } from '../contract/records.ts'
import type { RowSide } from '../contract/rows.ts'
import { KEPT_DAYS, writeRows, type RowTransaction } from '../row-writing.ts'
import { STATE_DATABASE } from './catalogue.ts'
import type { Session } from './client.ts'
import { grantsOf, tableRights } from './grants.ts'
import { readLocked } from './rows.ts'
import { canonicalColumn, ident, keyLiteral, literal, tableName } from './sql.ts'

const CALLS = `${STATE_DATABASE}.call_answers`

const MAKE_CALLS = [
  `CREATE DATABASE IF NOT EXISTS ${STATE_DATABASE} CHARACTER SET utf8mb4`,
  `CREATE TABLE IF NOT EXISTS ${CALLS} (
     once varchar(100) COLLATE utf8mb4_bin PRIMARY KEY, at datetime(6) NOT NULL DEFAULT now(6), answers longtext NOT NULL) ENGINE = InnoDB`,
  `DELETE FROM ${CALLS} WHERE at < now(6) - INTERVAL ${KEPT_DAYS} DAY`,
]

/** Of a value that is not taken: by its class, and two that have none of their own. */
const REFUSED = /^(22|23|45|01)/
const REFUSED_NUMBERS = new Set([1364, 1366])

export function mariadbRows(within: <T>(body: (session: Session) => Promise<T>) => Promise<T>): RowSide {
  let made: Promise<void> | undefined
  return {
    ownKey: 'bigint AUTO_INCREMENT',
    truthIsNumber: true,
    make: statements =>
      within(async session => {
        for (const statement of statements) await session.run(statement)
      }),
    rights: () =>
      within(async session => {
        const grants = await grantsOf(session)
        if (grants === undefined) return new Map()
        const tables = await session.arrays(`SELECT table_schema, table_name FROM information_schema.tables`)
        return new Map(
          tables.map(([namespace, name]) => {
            const table = { namespace: namespace!, name: name! }
            return [datasetId(table), tableRights(grants, table)]
          }),
        )
      }),
    write: async (table, operations, once) => {
      made ??= within(async session => {
        for (const statement of MAKE_CALLS) await session.run(statement)
      })
      await made.catch((thrown: unknown) => {
        made = undefined
        throw thrown
      })
      return within(async session => {
        await session.run('START TRANSACTION')
        // Whatever fails ends with its session.
        const answers = await writeRows(transactionOf(session, table), table, operations, once)
        await session.run('COMMIT')
        return answers
      })
    },
  }
}

function transactionOf(session: Session, table: KeyedTable): RowTransaction {
  const columnOf = (name: string) => table.columns.find(column => column.name === name)!
  const key = columnOf(table.key[0]!)
  const name = tableName(table.dataset)
  return {
    run: sql => session.run(sql),
    rows: sql => session.arrays(sql),
    ident,
    literal,
    name,
    calls: CALLS,
    value: (column, text) => {
      const { type, nativeType } = columnOf(column)
      return keyLiteral(text, type, nativeType)
    },
    locked: async of => (await readLocked(session, table, [[of]], []))[0],
    insert: async (columns, values) => {
      const [row] = await session.arrays(
        `INSERT INTO ${name} (${columns.join(', ')}) VALUES (${values.join(', ')})
         RETURNING ${canonicalColumn(key.name, key.type, key.nativeType)}`,
      )
      return row![0]!
    },
    refusal: thrown => {
      const {
        sqlState = '',
        errno = 0,
        message,
      } = thrown as {
        sqlState?: string
        errno?: number
        message: string
      }
      if (!REFUSED.test(sqlState) && !REFUSED_NUMBERS.has(errno)) return undefined
      const [, column] = /[Cc]olumn '([^']+)'/.exec(message) ?? []
      const field = table.columns.find(one => one.name === column?.split('.').at(-1)?.replaceAll('`', ''))
      return { field: field?.name ?? null, reason: `${message}.` }
    },
  }
}
