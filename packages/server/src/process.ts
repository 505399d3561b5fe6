/** What the server and an engine alone have in common as processes. */
import { Failure } from '@tide/core/failure'
import { openStore } from '@tide/store/store'
import type { DataFolder } from './data-folder.ts'
import { LaterTables } from './later-tables.ts'
import { Scheduler } from './scheduler.ts'
import { composeServices, type Services } from './services.ts'

const VERSION = '0.1.0'
const ENDS_WITHIN_MS = 9_000

export async function openServices(data: DataFolder): Promise<Services> {
  const { TIDE_KEY: passphrase, DATABASE_URL: url } = process.env
  const store = await openStore({ folder: data.folder, url, passphrase })
  return composeServices(store, VERSION, data)
}

/** Looks after what runs until the process is told to end, or its starter is gone; then ends it well. */
export function liveUntilTold(services: Services, data: DataFolder, before: () => void): void {
  const laterTables = new LaterTables(services)
  const scheduler = new Scheduler(services)
  let closing = false
  const close = async () => {
    if (closing) return
    closing = true
    // Whatever still runs somewhere, what it has written is safe: it goes on at the next start.
    setTimeout(() => process.exit(0), ENDS_WITHIN_MS)
    before()
    await laterTables.close()
    await scheduler.close()
    await services.close()
    await data.unlock()
    process.exit(faults === 0 ? 0 : 1)
  }
  process.on('SIGINT', () => void close())
  process.on('SIGTERM', () => void close())
  process.on('disconnect', () => void close())
  if (process.connected === false) void close() // the starter went while this one was starting
}

/** What the process makes is for its owner alone: journals, the store, its key, and files of its children. */
export function makePrivately(): void {
  process.umask(0o077)
}

/** Errors that nobody waited for: none may exist, so tests fail with them; a server logs them and goes on. */
export function countFaults(): void {
  process.on('unhandledRejection', error => {
    faults++
    process.stderr.write(
      `Nobody waited for this error: ${error instanceof Error ? error.stack : String(error)}\n`,
    )
  })
}

let faults = 0

/** Says why the process cannot go on, and ends it. */
export function failWith(error: unknown): never {
  const line = error instanceof Failure ? `${error.message} ${error.remedy}` : (error as Error).stack
  process.stderr.write(`${line}\n`)
  process.exit(1)
}
