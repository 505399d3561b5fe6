import { drizzle } from 'drizzle-orm/node-postgres'
import { migrate } from 'drizzle-orm/node-postgres/migrator'
import { mkdir } from 'node:fs/promises'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import pg from 'pg'
import type { Database } from './database.ts'
import { Connections } from './connections.ts'
import { startEmbedded } from './embedded.ts'
import { History } from './history.ts'
import { Pipelines } from './pipelines.ts'
import { Seal } from './seal.ts'

/** The application's own state. */
export interface Store {
  connections: Connections
  pipelines: Pipelines
  history: History
  close(): Promise<void>
}

const MIGRATIONS = fileURLToPath(new URL('../migrations', import.meta.url))

/** Opens the store in a data folder, brings its schema up to date, and makes what is not there yet. */
export async function openStore(folder: string, passphrase?: string): Promise<Store> {
  await mkdir(folder, { recursive: true })
  const seal = await Seal.open(folder, passphrase)
  const embedded = await startEmbedded(join(folder, 'store'))
  // The embedded database has one session; one client, so that no transaction of ours meets another.
  const pool = new pg.Pool({
    host: embedded.host,
    port: 5432,
    user: 'postgres',
    database: 'postgres',
    max: 1,
  })
  pool.on('error', () => {}) // seen again at the next query
  const db: Database = drizzle(pool)
  await migrate(db, { migrationsFolder: MIGRATIONS })
  return {
    connections: new Connections(db, seal),
    pipelines: new Pipelines(db),
    history: new History(db),
    close: async () => {
      await pool.end()
      await embedded.close()
    },
  }
}
