/** The systems of a soak run: real servers, seen as a source and as targets. */
import { limits } from '../packages/connectors/tests/limits.ts'
import pg from 'pg'
import { startRealMariadb, type RealMariadb } from '../packages/connectors/tests/real-mariadb.ts'
import { startRealPostgres, type RealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { duckdb } from '../packages/connectors/src/duckdb/connector.ts'
import { rowsOfMerged } from '../differential/merged.ts'
import type { Rows } from './compare.ts'
import { schema, type Compared, type Writer } from './world.ts'

export interface SoakSource {
  kind: string
  config: Record<string, unknown>
  schemaName: string
  setUp(statements: string[]): Promise<void>
  writer(): Promise<Writer>
  restart(how: 'SIGINT' | 'SIGQUIT'): Promise<void>
  /** Cuts every connection but the writers'. */
  cut(): Promise<void>
  rows(table: Compared): Promise<Rows>
  /** What some targets will not take, and what mends it. */
  odd?: { make: (n: number) => string; mend: string }
  close(): Promise<void>
}

export interface SoakTarget {
  name: string
  kind: string
  config: Record<string, unknown>
  /** What of a pipeline is otherwise there. */
  settings?: Record<string, unknown>
  restart?(how: 'SIGINT' | 'SIGQUIT'): Promise<void>
  cut?(): Promise<void>
  /** Takes some rows of a table away, behind everybody's back. */
  takeAway?(schemaName: string, table: string): Promise<void>
  /** Read when the engine has let go of it; `origin`: those of one of several. */
  rows(schemaName: string, table: Compared, origin?: string): Promise<Rows>
  close(): Promise<void>
}

const TAKEN_AWAY = 5

const asText = { getTypeParser: () => (value: unknown) => value } as unknown as pg.CustomTypesConfig

/** The condition for the rows of an origin. */
const of = (origin: string | undefined) => (origin === undefined ? '' : ` WHERE origin = '${origin}'`)

async function postgresRows(config: pg.ClientConfig, from: string, { columns }: Compared): Promise<Rows> {
  const client = new pg.Client({ ...config, types: asText, options: '-c datestyle=ISO' })
  await client.connect()
  try {
    return (await client.query({ text: `SELECT ${columns.join(', ')} FROM ${from}`, rowMode: 'array' })).rows
  } finally {
    await client.end()
  }
}

const cutAll = async (server: RealPostgres) => {
  const client = await server.connect().catch(() => undefined)
  await client
    ?.query(`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'Constant Tide'`)
    .catch(() => {})
  await client?.end().catch(() => {})
}

/** `method`: how its changes are captured. */
export async function postgresSource(method: 'log' | 'triggers' = 'log'): Promise<SoakSource> {
  const server = await startRealPostgres()
  return {
    kind: 'postgres',
    config: { ...server.config, method },
    schemaName: 'public',
    // DuckDB's decimals have no NaN.
    odd: {
      make: n => `UPDATE trays SET price = 'NaN' WHERE id % 997 = ${n % 997}`,
      mend: `UPDATE trays SET price = 1 WHERE price = 'NaN'`,
    },
    setUp: async statements => {
      const client = await server.connect()
      const all = [...schema({ text: 'text', stamp: 'timestamp', serial: 'bigserial' }), ...statements]
      for (const statement of all) await client.query(statement)
      await client.end()
    },
    writer: async () => {
      const client = await server.connect()
      return {
        run: async statements => {
          await client.query(['BEGIN', ...statements, 'COMMIT'].join('; '))
        },
        close: () => client.end(),
      }
    },
    restart: how => server.restart(how),
    cut: () => cutAll(server),
    rows: table => postgresRows(server.config, table.name, table),
    close: () => server.close(),
  }
}

const cutMariadb = async (server: RealMariadb) => {
  const client = await server.connect().catch(() => undefined)
  const rows = await client
    ?.arrays('SELECT id FROM information_schema.processlist WHERE id <> connection_id()')
    .catch(() => [])
  for (const [id] of rows ?? []) await client!.run(`KILL ${id}`).catch(() => {}) // it may have gone by itself
  await client?.close().catch(() => {})
}

async function mariadbRows(server: RealMariadb, from: string, { columns }: Compared): Promise<Rows> {
  const client = await server.connect()
  // Trailing zeros of a second's parts are not the same in every system's text.
  const texts = columns.map(column =>
    column === 'moved' ? `TRIM(TRAILING '.' FROM TRIM(TRAILING '0' FROM CAST(moved AS CHAR)))` : column,
  )
  const rows = await client.arrays(`SELECT ${texts.join(', ')} FROM ${from}`)
  await client.close()
  return rows
}

export async function mariadbSource(): Promise<SoakSource> {
  const server = await startRealMariadb()
  return {
    kind: 'mariadb',
    config: { ...server.config },
    schemaName: 'site',
    setUp: async statements => {
      const client = await server.connect()
      const types = { text: 'longtext', stamp: 'datetime(6)', serial: 'bigint AUTO_INCREMENT' }
      for (const statement of ['USE site', ...schema(types), ...statements]) await client.run(statement)
      await client.close()
    },
    writer: async () => {
      const client = await server.connect()
      await client.run('USE site')
      return {
        run: async statements => {
          for (const statement of ['START TRANSACTION', ...statements, 'COMMIT']) await client.run(statement)
        },
        close: async () => client.destroy(),
      }
    },
    restart: how => server.restart(how === 'SIGQUIT' ? 'SIGKILL' : 'SIGTERM'),
    cut: () => cutMariadb(server),
    rows: table => mariadbRows(server, `site.${table.name}`, table),
    close: () => server.close(),
  }
}

export async function mariadbTarget(): Promise<SoakTarget> {
  const server = await startRealMariadb()
  return {
    name: 'MariaDB',
    kind: 'mariadb',
    config: { ...server.config },
    restart: how => server.restart(how === 'SIGQUIT' ? 'SIGKILL' : 'SIGTERM'),
    cut: () => cutMariadb(server),
    takeAway: async (schemaName, table) => {
      const client = await server.connect()
      await client.run(`DELETE FROM ${schemaName}.${table} LIMIT ${TAKEN_AWAY}`).finally(() => client.close())
    },
    rows: (schemaName, table, origin) =>
      mariadbRows(server, `${schemaName}.${table.name}${of(origin)}`, table),
    close: () => server.close(),
  }
}

export async function postgresTarget(): Promise<SoakTarget> {
  const server = await startRealPostgres()
  return {
    name: 'PostgreSQL',
    kind: 'postgres',
    config: { ...server.config, method: 'log' },
    restart: how => server.restart(how),
    cut: () => cutAll(server),
    takeAway: async (schemaName, table) => {
      const client = await server.connect()
      const some = `SELECT ctid FROM ${schemaName}.${table} LIMIT ${TAKEN_AWAY}`
      await client
        .query(`DELETE FROM ${schemaName}.${table} WHERE ctid = ANY (ARRAY(${some}))`)
        .finally(() => client.end())
    },
    rows: (schemaName, table, origin) =>
      postgresRows(server.config, `${schemaName}.${table.name}${of(origin)}`, table),
    close: () => server.close(),
  }
}

export function duckdbTarget(path: string): SoakTarget {
  return {
    name: 'DuckDB',
    kind: 'duckdb',
    config: { path },
    rows: async (schemaName, { name, columns }, origin) => {
      const session = await duckdb.open({ path })
      const sql = `SELECT ${columns.map(column => `CAST(${column} AS VARCHAR)`).join(', ')} FROM ${schemaName}.${name}${of(origin)}`
      const { rows } = await session.query!(
        sql,
        limits({ maxRows: 10_000_000, timeoutMs: 600_000, maxBytes: 2 ** 30 }),
      )
      await session.close()
      return rows
    },
    close: async () => {},
  }
}

/** Merged tables, which keep no history and tell no status beside them; read by the independent reader and by DuckDB. */
export function lakeTarget(folder: string): SoakTarget {
  return {
    name: 'lake',
    kind: 'folder',
    config: { path: folder },
    settings: { history: false, status: undefined, files: { as: 'merged' }, speed: { waits: 2 } },
    rows: (schemaName, { name, columns }) => {
      const texts = columns.map(column => `CAST(${column} AS VARCHAR)`).join(', ')
      return rowsOfMerged(folder, `SELECT ${texts} FROM ${schemaName}.${name}`)
    },
    close: async () => {},
  }
}
