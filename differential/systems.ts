/** The servers of a run: each is source and target at once, by databases of its own. */
import { PGlite } from '@electric-sql/pglite'
import { citext } from '@electric-sql/pglite/contrib/citext'
import pg from 'pg'
import { freePort, startRealPostgres, type RealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { startRealMariadb, type RealMariadb } from '../packages/connectors/tests/real-mariadb.ts'
import { PostgresSocketServer } from '../packages/stand-ins/src/postgres/socket-server.ts'

/** How a source is followed. */
export type SourceName = 'postgres' | 'triggers' | 'cursor' | 'mariadb' | 'embedded'

export const SOURCES: readonly SourceName[] = ['postgres', 'mariadb', 'triggers', 'embedded', 'cursor']
export const TARGET_DATABASE = 'target'
export const CURSOR = 'written at'

export interface Systems {
  postgres: RealPostgres
  mariadb: RealMariadb
  embedded: { host: string; port: number; database: string; user: string; password: string } | undefined
  close(): Promise<void>
}

export async function startSystems(withEmbedded: boolean): Promise<Systems> {
  const [postgres, mariadb] = await Promise.all([
    startRealPostgres({
      max_replication_slots: '40',
      max_wal_senders: '40',
      max_prepared_transactions: '40',
      max_connections: '200',
      deadlock_timeout: '200ms',
    }),
    startRealMariadb(),
  ])
  const client = await postgres.connect()
  await client.query(`CREATE DATABASE ${TARGET_DATABASE}`)
  await client.query('CREATE EXTENSION citext')
  await client.end()
  const embedded = withEmbedded ? await startEmbedded() : undefined
  return {
    postgres,
    mariadb,
    embedded: embedded?.config,
    close: async () => {
      await embedded?.close()
      await Promise.all([postgres.close(), mariadb.close()])
    },
  }
}

async function startEmbedded() {
  const db = await PGlite.create({ extensions: { citext } })
  await db.exec('CREATE EXTENSION citext')
  const access = { database: 'site', user: 'osier', password: 'under the willows' }
  const server = new PostgresSocketServer(db, access)
  const port = await freePort()
  await server.listen(port)
  return {
    config: { host: '127.0.0.1', port, ...access },
    close: async () => {
      await server.close()
      await db.close()
    },
  }
}

/** Every value as the server prints it, in one form whatever the server's own settings. */
export async function plainClient(config: pg.ClientConfig): Promise<pg.Client> {
  const asText = { getTypeParser: () => (value: unknown) => value } as unknown as pg.CustomTypesConfig
  const client = new pg.Client({ ...config, types: asText })
  client.on('error', () => {})
  await client.connect()
  return client
}

export const PLAIN_SETTINGS = `SET datestyle = 'ISO, YMD'; SET intervalstyle = 'postgres'; SET timezone = 'UTC'; SET bytea_output = 'hex'; SET extra_float_digits = 1`
