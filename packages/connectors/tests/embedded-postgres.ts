import { PGlite } from '@electric-sql/pglite'
import pg from 'pg'
import { PostgresSocketServer } from '../../stand-ins/src/postgres/socket-server.ts'
import { freePort, type TestDatabase } from './real-postgres.ts'

/** The embedded database of the stand-ins behind its socket, in this process. */
export async function startEmbeddedPostgres(): Promise<TestDatabase> {
  const db = await PGlite.create()
  const access = { database: 'site', user: 'osier', password: 'under the willows' }
  const server = new PostgresSocketServer(db, access)
  const port = await freePort()
  await server.listen(port)
  const config = { host: '127.0.0.1', port, ...access, method: 'triggers' }
  return {
    name: 'the embedded stand-in',
    config,
    connect: async () => {
      const client = new pg.Client(config)
      client.on('error', () => {})
      await client.connect()
      return client
    },
    close: async () => {
      await server.close()
      await db.close()
    },
  }
}
