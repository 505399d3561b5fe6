/** Systems that hold one table with every type, each as a session and as statements. */
import type { Session } from '../src/contract/session.ts'
import { mariadb } from '../src/mariadb/connector.ts'
import { postgres } from '../src/postgres/connector.ts'
import { startEmbeddedPostgres } from './embedded-postgres.ts'
import { insertMariaTypes, MARIA_ROWS, MARIA_TYPES } from './every-maria-type.ts'
import { insertTypes, ROWS, TYPES } from './every-type.ts'
import { startRealMariadb } from './real-mariadb.ts'
import { startRealPostgres, type TestDatabase } from './real-postgres.ts'

export interface SingleSystem {
  kind: 'postgres' | 'mariadb'
  schema: string
  rows: number
  session: Session
  run(sql: string): Promise<unknown>
  /** Statements that make the table `every`, and fill it. */
  every: string[]
  close(): Promise<void>
}

async function onPostgres(start: () => Promise<TestDatabase>, method: string): Promise<SingleSystem> {
  const database = await start()
  const client = await database.connect()
  const session = await postgres.open({ ...database.config, method })
  const columns = TYPES.map(([name, type]) => `${name} ${type}`).join(', ')
  return {
    kind: 'postgres',
    schema: 'public',
    rows: ROWS + 1,
    session,
    run: sql => client.query(sql),
    every: [
      `CREATE TYPE mood AS ENUM ('well', 'so so')`,
      `CREATE TABLE every (id int PRIMARY KEY, ${columns}, padded char(5) DEFAULT 'ab', near numeric DEFAULT 1.10)`,
      insertTypes('every', ['id', ...TYPES.map(([name]) => name)]),
    ],
    close: async () => {
      await session.close()
      await client.end()
      await database.close()
    },
  }
}

async function onMariadb(): Promise<SingleSystem> {
  const server = await startRealMariadb()
  const client = await server.connect()
  const session = await mariadb.open({ ...server.config })
  await client.run('USE site')
  return {
    kind: 'mariadb',
    schema: 'site',
    rows: MARIA_ROWS + 1,
    session,
    run: sql => client.run(sql),
    every: [
      `CREATE TABLE every (id int PRIMARY KEY, ${MARIA_TYPES.map(([name, type]) => `${name} ${type}`).join(', ')})`,
      insertMariaTypes('every'),
    ],
    close: async () => {
      await session.close()
      await client.close()
      await server.close()
    },
  }
}

export const SINGLE_SYSTEMS: [string, () => Promise<SingleSystem>][] = [
  ['PostgreSQL by its log', () => onPostgres(startRealPostgres, 'log')],
  ['the embedded stand-in by triggers', () => onPostgres(startEmbeddedPostgres, 'triggers')],
  ['MariaDB', onMariadb],
]
