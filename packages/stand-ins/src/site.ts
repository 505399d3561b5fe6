/** One site's operational database, with its socket, its people's activity and its screen. */
import { PGlite } from '@electric-sql/pglite'
import { mkdir, readFile, stat, writeFile } from 'node:fs/promises'
import { join } from 'node:path'
import pg from 'pg'
import { PostgresSocketServer, type Access } from './postgres/socket-server.ts'
import { freePorts, listen, taken } from './ports.ts'
import { createScreen } from './screen/screen.ts'
import { Activity, type Pace } from './world/activity.ts'
import { fillStatements, NURSERY_SCHEMA, SITE_SIZE, type SiteSize } from './world/nursery.sql.ts'

export interface SiteOptions {
  name: string
  folder: string
  seed: number
  size?: SiteSize
  /** Wanted ports; others are taken at the first start when these are not free. */
  ports: { database: number; screen: number }
  pace: Pace
}

interface Kept {
  ports: { database: number; screen: number }
  pace: Pace
}

export interface Site {
  name: string
  access: Access & { host: string; port: number }
  screen: string
  activity: Activity
  close(): Promise<void>
}

/** Starts a site where it was left; the first time, `fillSite` has been there before. */
export async function startSite(options: SiteOptions): Promise<Site> {
  const { name, folder } = options
  await mkdir(folder, { recursive: true })
  const memory = join(folder, 'site.json')
  const kept: Kept = (await isMade(options))
    ? JSON.parse(await readFile(memory, 'utf8'))
    : { ports: await freePorts(options.ports), pace: options.pace }
  const db = await PGlite.create(join(folder, 'database'))
  const access = { database: name.toLowerCase(), user: 'osier', password: 'willow-and-water' }
  const sockets = new PostgresSocketServer(db, access)
  await sockets
    .listen(kept.ports.database)
    .catch(error => Promise.reject(taken(error, name, kept.ports.database)))
  const address = { host: '127.0.0.1', port: kept.ports.database }
  const pool = new pg.Pool({ ...address, ...access, max: 3 })
  pool.on('error', () => {}) // seen again at the next query
  const activity = new Activity(pool, options.seed)
  const remember = () => writeFile(memory, JSON.stringify({ ports: kept.ports, pace: activity.pace }))
  activity.set(kept.pace)
  await remember()
  const setPace = async (pace: Pace) => {
    activity.set(pace)
    await remember()
  }
  const server = await listen(
    createScreen({ name, pool, activity, setPace, address, access }),
    kept.ports.screen,
    name,
  )
  return {
    name,
    access: { ...access, ...address },
    screen: `http://127.0.0.1:${kept.ports.screen}/`,
    activity,
    close: async () => {
      server.closeAllConnections()
      server.close()
      await activity.stop()
      await pool.end()
      await sockets.close()
      await db.close()
    },
  }
}

/** Whether the site has been made and filled, and has started since. */
export async function isMade({ folder }: SiteOptions): Promise<boolean> {
  return (await stat(join(folder, 'site.json')).catch(() => undefined)) !== undefined
}

/** Makes a site's database. Takes memory that its process never gives back, so another one should go on with it. */
export async function fillSite({ folder, seed, size = SITE_SIZE }: SiteOptions): Promise<void> {
  await mkdir(folder, { recursive: true })
  const db = await PGlite.create(join(folder, 'database'))
  // An earlier attempt that was cut short leaves a half-filled database behind.
  await db.exec('DROP SCHEMA IF EXISTS nursery CASCADE; DROP SCHEMA IF EXISTS "Field Notes" CASCADE')
  await db.exec(NURSERY_SCHEMA)
  for (const statement of fillStatements(seed, size)) await db.exec(statement)
  await db.close()
}
