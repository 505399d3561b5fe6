import { Failure } from '@tide/core/failure'
import { drizzle } from 'drizzle-orm/node-postgres'
import { migrate } from 'drizzle-orm/node-postgres/migrator'
import { mkdir } from 'node:fs/promises'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import pg from 'pg'
import type { Database } from './database.ts'
import { Connections } from './connections.ts'
import { startEmbedded } from './embedded.ts'
import { Errands } from './errands.ts'
import { HeldRecords } from './held.ts'
import { TwoWayPairs } from './two-way.ts'
import { Verifications } from './verifications.ts'
import { History } from './history.ts'
import { keyCalled } from './keys.ts'
import { Leases } from './leases.ts'
import { Schedules } from './schedules.ts'
import { Runs } from './runs.ts'
import { Pipelines } from './pipelines.ts'
import { SavedPositions } from './saved-positions.ts'
import { SavedQueries } from './saved-queries.ts'
import { Seal } from './seal.ts'
import { upgradeStored } from './upgrade.ts'
import { Versions } from './versions.ts'
import { RestorePoints } from './restore-points.ts'
import { Webhooks } from './webhooks.ts'

/** The application's own state. */
export interface Store {
  connections: Connections
  pipelines: Pipelines
  history: History
  runs: Runs
  schedules: Schedules
  leases: Leases
  errands: Errands
  versions: Versions
  positions: SavedPositions
  queries: SavedQueries
  held: HeldRecords
  verifications: Verifications
  pairs: TwoWayPairs
  webhooks: Webhooks
  restorePoints: RestorePoints
  /** Of the keyed hash that masks are made with. */
  maskKey: Uint8Array
  /** Runs `deed` while no other process that shares the store runs one of the same name. */
  alone<T>(name: string, deed: () => Promise<T>): Promise<T>
  close(): Promise<void>
}

export interface StoreSettings {
  /** Where the embedded database and the key of the secrets are. */
  folder: string
  /** A PostgreSQL server instead of the embedded database; then several engines may share the store. */
  url?: string | undefined
  passphrase?: string | undefined
}

const MIGRATIONS = fileURLToPath(new URL('../migrations', import.meta.url))

/** Opens the store, brings its schema up to date, and makes what is not there yet. */
export async function openStore({ folder, url, passphrase }: StoreSettings): Promise<Store> {
  if (url && !passphrase) {
    throw new Failure(
      'refused',
      'DATABASE_URL is set without TIDE_KEY, so that the secrets could be read from this data folder only.',
      'Set TIDE_KEY to a passphrase, the same for every process that shares the store.',
    )
  }
  await mkdir(folder, { recursive: true })
  const seal = await Seal.open(folder, passphrase)
  const backing = url ? await onServer(url) : await embedded(folder)
  const { pool } = backing
  pool.on('error', () => {}) // seen again at the next query
  const db: Database = drizzle(pool)
  try {
    await backing.alone('migrate', async () => {
      await migrate(db, { migrationsFolder: MIGRATIONS })
      await upgradeStored(db)
    })
  } catch (error) {
    await backing.close()
    throw error
  }
  const connections = new Connections(db, seal)
  await connections.sealAnew()
  const maskKey = await keyCalled(db, seal, 'mask')
  return {
    connections,
    maskKey,
    pipelines: new Pipelines(db),
    history: new History(db),
    runs: new Runs(db),
    schedules: new Schedules(db),
    leases: new Leases(db),
    errands: new Errands(db),
    versions: new Versions(db),
    positions: new SavedPositions(db),
    queries: new SavedQueries(db),
    held: new HeldRecords(db, seal, maskKey),
    verifications: new Verifications(db, seal),
    pairs: new TwoWayPairs(db),
    webhooks: new Webhooks(db, seal),
    restorePoints: new RestorePoints(db),
    alone: backing.alone,
    close: backing.close,
  }
}

interface Backing extends Pick<Store, 'alone' | 'close'> {
  pool: pg.Pool
}

async function embedded(folder: string): Promise<Backing> {
  const { host, close } = await startEmbedded(join(folder, 'store'))
  // The embedded database has one session; one client, so that no transaction of ours meets another.
  const pool = new pg.Pool({ host, port: 5432, user: 'postgres', database: 'postgres', max: 1 })
  return {
    pool,
    alone: (_name, deed) => deed(), // the data folder has one process
    close: async () => {
      await pool.end()
      await close()
    },
  }
}

async function onServer(url: string): Promise<Backing> {
  const pool = new pg.Pool({
    connectionString: url,
    max: 8,
    connectionTimeoutMillis: 10_000,
    application_name: 'Constant Tide store',
    keepAlive: true,
  })
  try {
    await pool.query('SELECT 1')
  } catch (error) {
    await pool.end()
    throw new Failure(
      'structural',
      `The store at DATABASE_URL cannot be reached: ${(error as Error).message}`,
      'Check the address, the user and the database; it must be there, its tables are made by us.',
      error,
    )
  }
  return {
    pool,
    alone: async (name, deed) => {
      const client = await pool.connect()
      let broken = true
      try {
        await client.query('SELECT pg_advisory_lock(hashtext($1))', [`constant tide ${name}`])
        const done = await deed()
        await client.query('SELECT pg_advisory_unlock(hashtext($1))', [`constant tide ${name}`])
        broken = false
        return done
      } finally {
        client.release(broken) // a session that ends lets go of its locks
      }
    },
    close: () => pool.end(),
  }
}
