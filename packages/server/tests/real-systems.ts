/** The server in this process, and a PostgreSQL and a MariaDB of their own for it. */
import type { ConnectionInfo } from '@tide/core/api/connections'
import { mkdtempSync, rmSync } from 'node:fs'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import pg from 'pg'
import { startRealMariadb, type RealMariadb } from '../../connectors/tests/real-mariadb.ts'
import { startRealPostgres, type RealPostgres } from '../../connectors/tests/real-postgres.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { createApp } from '../src/app.ts'
import { openDataFolder } from '../src/data-folder.ts'
import type { Services } from '../src/services.ts'
import { openServices } from '../src/process.ts'

export interface RealSystems {
  services: Services
  url: string
  folder: string
  postgres: RealPostgres
  mariadb: RealMariadb
  /** Ids of connections by their names. */
  ids: Record<string, string>
  connect(name: string, kind: string, config: object): Promise<void>
  /** Runs statements in a database of the PostgreSQL. */
  inPostgres(database: string, sql: string): Promise<void>
  /** Runs statements, each behind a semicolon, at the MariaDB. */
  inMariadb(sql: string): Promise<void>
  /** Asks through a connection, as people do. */
  ask(connection: string, sql: string): Promise<string[][]>
  close(): Promise<void>
}

/** `databases`: made in the PostgreSQL, each with a connection of its name. */
export async function openRealSystems(databases: readonly string[]): Promise<RealSystems> {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-systems-'))
  const [postgres, mariadb] = await Promise.all([startRealPostgres(), startRealMariadb()])
  const services = await openServices(await openDataFolder(join(folder, 'data'), 'here'))
  const server = createServer(createApp(services).callback())
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve))
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const ids: Record<string, string> = {}
  const connect = async (name: string, kind: string, config: object) => {
    ids[name] = (await call<ConnectionInfo>(url, 'POST', '/connections', { name, kind, config })).id
  }
  const inPostgres = async (database: string, sql: string) => {
    const client = new pg.Client({ ...postgres.config, database })
    await client.connect()
    await client.query(sql)
    await client.end()
  }
  for (const database of databases) {
    await inPostgres('postgres', `CREATE DATABASE ${database}`)
    await connect(database, 'postgres', { ...postgres.config, database })
  }
  return {
    services,
    url,
    folder,
    postgres,
    mariadb,
    ids,
    connect,
    inPostgres,
    inMariadb: async sql => {
      const session = await mariadb.connect()
      for (const statement of sql.split(';')) if (statement.trim()) await session.run(statement)
      await session.close()
    },
    ask: async (connection, sql) =>
      (await call<{ rows: string[][] }>(url, 'POST', '/query', { connection: ids[connection], sql })).rows,
    close: async () => {
      server.close()
      await services.close()
      await Promise.all([postgres.close(), mariadb.close()])
      rmSync(folder, { recursive: true, force: true })
    },
  }
}
