/** One open DuckDB file per process, shared by everybody who uses it, however they call it. */
import { Failure } from '@tide/core/failure'
import { probeFolder } from '../folder-probe.ts'
import { rm } from 'node:fs/promises'
import { dirname, resolve } from 'node:path'
import { DuckdbHost, type DuckdbConnection } from './host.ts'
import { fileIdentity } from './file.ts'
import { literal } from './sql.ts'
import { makeStaging } from './staging-folder.ts'

/** DuckDB spills beyond it, so that the process stays small. The larger is enough for loads and merges in batches. */
type Memory = '512MB' | '256MB'
/** What the cache is cut down to after loads, whose blocks nobody reads again; and after how much of them. */
const CUT_TO = '32MB'
const CUT_AFTER_BYTES = 128 * 2 ** 20
/**
 * How long its log may become before what is in it is written a second time, into the file proper. Ranges of a copy are
 * smaller than DuckDB's default, which would write each by itself.
 */
const LOG_BYTES = '128MB'
/** What merges and questions together may put aside on disk. */
const MOST_SPILLED = '4GB'

export const WRITABLE_REMEDY = 'Give this user the right to write there, or choose another file.'

interface Shared {
  host: DuckdbHost
  /** The one folder that SQL may read from. */
  staging: string
  connected: number
  /** Loaded since the cache was cut. */
  loadedBytes: number
}

interface Opened {
  path: string
  memory: Memory
  /** Who comes is counted before it is waited for, so that it is not closed under anybody. */
  users: number
  shared: Promise<Shared>
  /** Under which it is found: a file gets another identity when it is made. */
  identities: Set<string>
}

const open = new Map<string, Opened>()
/** Files that are being closed, which takes a moment. */
const closing = new Map<string, Promise<void>>()

/** A use of the file. What held it may end; then it is opened anew for whoever asks next. */
export interface Lease {
  /** The folder from which SQL may read. */
  staging(): Promise<string>
  connect(): Promise<DuckdbConnection>
  disconnect(connection: DuckdbConnection): Promise<void>
  /** So much was loaded: now and then gives back the memory of cached blocks, unless anybody but the caller is connected. */
  loaded(bytes: number): Promise<void>
  release(): Promise<void>
}

/** Opens the file, or joins those who have it open. Fails with a remedy when another process holds it. `memory`: of who comes first. */
export async function lease(path: string, memory: Memory = '512MB'): Promise<Lease> {
  await closing.get(fileIdentity(path))
  const opened = open.get(fileIdentity(path)) ?? begin(path, memory)
  opened.users++
  let released = false
  const release = async () => {
    if (released) return
    released = true
    if (--opened.users === 0) await end(opened)
  }
  try {
    await presentOf(opened)
  } catch (error) {
    await release()
    throw error
  }
  return {
    staging: async () => (await presentOf(opened)).staging,
    connect: async () => {
      const shared = await presentOf(opened)
      shared.connected++
      return shared.host.connect()
    },
    disconnect: async connection => {
      await connection.disconnect()
      const shared = await opened.shared.catch(() => undefined)
      if (shared && connection.host === shared.host) shared.connected--
    },
    loaded: async bytes => cutCache(await presentOf(opened), bytes, opened.memory),
    release,
  }
}

function begin(path: string, memory: Memory): Opened {
  const identity = fileIdentity(path)
  const shared = openShared(path, memory)
  const opened: Opened = { path, memory, users: 0, shared, identities: new Set([identity]) }
  open.set(identity, opened)
  nameWhenThere(opened)
  return opened
}

/** The process that holds the file now; started anew, once for all who wait, when it has ended. */
async function presentOf(opened: Opened): Promise<Shared> {
  const waited = opened.shared
  const shared = await waited.catch(() => undefined)
  if (shared && !shared.host.ended) return shared
  if (opened.shared === waited && (shared || opened.users > 1)) {
    opened.shared = openShared(opened.path, opened.memory, shared?.staging)
    nameWhenThere(opened)
  }
  return opened.shared
}

function nameWhenThere(opened: Opened): void {
  opened.shared.then(
    () => {
      const identity = fileIdentity(opened.path)
      opened.identities.add(identity)
      open.set(identity, opened)
    },
    () => {}, // whoever waits hears of it
  )
}

/** Takes it off the list at once; who comes next waits until the file is closed. */
async function end(opened: Opened): Promise<void> {
  const closed = opened.shared
    .then(async ({ host, staging }) => {
      await host.close()
      await rm(staging, { recursive: true, force: true })
    })
    .catch(() => {}) // it was never open
  for (const identity of opened.identities) {
    if (open.get(identity) !== opened) continue
    open.delete(identity)
    closing.set(identity, closed)
  }
  await closed
  for (const identity of opened.identities) if (closing.get(identity) === closed) closing.delete(identity)
}

async function cutCache(shared: Shared, bytes: number, memory: Memory): Promise<void> {
  shared.loadedBytes += bytes
  if (shared.loadedBytes < CUT_AFTER_BYTES) return
  if (shared.connected > 1) return // a query of theirs could find too little memory just then
  const connection = await shared.host.connect()
  try {
    await connection.run('CHECKPOINT') // what is only in the log cannot leave memory
    await connection.run(`SET memory_limit = '${CUT_TO}'`).catch(() => {}) // what is in use stays
    shared.loadedBytes = 0
  } finally {
    await connection.run(`SET memory_limit = '${memory}'`)
    await connection.disconnect()
  }
}

/** `left`: what was staged for a process that has ended. */
async function openShared(path: string, memory: Memory, left?: string): Promise<Shared> {
  const file = resolve(path)
  await probeFolder(dirname(file), WRITABLE_REMEDY)
  if (left !== undefined) await rm(left, { recursive: true, force: true })
  const staging = await makeStaging()
  const settings = {
    autoinstall_known_extensions: 'false',
    autoload_known_extensions: 'false',
    memory_limit: memory,
    max_temp_directory_size: MOST_SPILLED,
    threads: '2',
    checkpoint_threshold: LOG_BYTES,
    preserve_insertion_order: 'false',
  }
  try {
    const host = await DuckdbHost.start(file, settings, [
      `SET allowed_directories = [${literal(`${staging}/`)}]`,
      `SET GLOBAL TimeZone = 'UTC'`,
      'SET enable_external_access = false',
    ])
    return { host, staging, connected: 0, loadedBytes: 0 }
  } catch (error) {
    await rm(staging, { recursive: true, force: true })
    throw openFailure(file, error)
  }
}

function openFailure(file: string, error: unknown): Failure {
  const message = (error as Error).message
  const holder = /held in (.+?) \(PID (\d+)\)/.exec(message)
  if (holder || /Could not set lock/.test(message)) {
    const who = holder ? `process ${holder[2]} (${holder[1]})` : 'another process'
    return new Failure(
      'transient',
      `The file ${file} is held by ${who}.`,
      'Close it there; a DuckDB file can be open in one process only. It is tried again by itself.',
      error,
    )
  }
  if (/EACCES|EROFS|Permission denied|Read-only/i.test(message)) {
    return new Failure('structural', `The file ${file} cannot be written.`, WRITABLE_REMEDY, error)
  }
  if (/not a valid DuckDB|serialization|database file/i.test(message)) {
    return new Failure(
      'structural',
      `${file} is not a DuckDB file that can be read here: ${message}`,
      'Choose another file.',
      error,
    )
  }
  return new Failure(
    'structural',
    `The file ${file} cannot be opened: ${message}`,
    'Choose another file.',
    error,
  )
}
