/** One open DuckDB file per process and path, shared by everybody who uses it. */
import { DuckDBInstance, type DuckDBConnection } from '@duckdb/node-api'
import { Failure } from '@tide/core/failure'
import { probeFolder } from '../folder-probe.ts'
import { createHash } from 'node:crypto'
import { mkdir, rm } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { dirname, join, resolve } from 'node:path'

/** Enough for loads and merges in batches; DuckDB spills beyond it, so that the process stays small. */
const MEMORY_LIMIT = '512MB'
/** What the cache is cut down to after loads, whose blocks nobody reads again; and after how much of them. */
const CUT_TO = '32MB'
const CUT_AFTER_BYTES = 128 * 2 ** 20
/**
 * How long its log may become before what is in it is written a second time, into the file proper. Ranges of a copy are
 * smaller than DuckDB's default, which would write each by itself.
 */
const LOG_BYTES = '128MB'

interface Shared {
  instance: DuckDBInstance
  staging: string
  connected: number
  /** Loaded since the cache was cut. */
  loadedBytes: number
}

interface Opened {
  /** Who comes is counted before it is waited for, so that it is not closed under anybody. */
  users: number
  shared: Promise<Shared>
}

const open = new Map<string, Opened>()

/** A use of the file. `staging` is the one folder that SQL may read from. */
export interface Lease {
  staging: string
  connect(): Promise<DuckDBConnection>
  disconnect(connection: DuckDBConnection): void
  /** So much was loaded: now and then gives back the memory of cached blocks, unless anybody but the caller is connected. */
  loaded(bytes: number): Promise<void>
  release(): Promise<void>
}

/** Where the file is in truth, however it was written. */
export function databasePath(path: string): string {
  return resolve(path)
}

/** Opens the file, or joins those who have it open. Fails with a remedy when another process holds it. */
export async function lease(path: string): Promise<Lease> {
  const file = databasePath(path)
  let opened = open.get(file)
  if (!opened) {
    opened = { users: 0, shared: openShared(file) }
    open.set(file, opened)
    opened.shared.catch(() => open.delete(file))
  }
  opened.users++
  const shared = await opened.shared
  let released = false
  return {
    staging: shared.staging,
    connect: async () => {
      shared.connected++
      return shared.instance.connect()
    },
    disconnect: connection => {
      connection.disconnectSync()
      shared.connected--
    },
    loaded: async bytes => {
      shared.loadedBytes += bytes
      if (shared.loadedBytes < CUT_AFTER_BYTES) return
      if (shared.connected > 1) return // a query of theirs could find too little memory just then
      const connection = await shared.instance.connect()
      try {
        await connection.run('CHECKPOINT') // what is only in the log cannot leave memory
        await connection.run(`SET memory_limit = '${CUT_TO}'`).catch(() => {}) // what is in use stays
        shared.loadedBytes = 0
      } finally {
        await connection.run(`SET memory_limit = '${MEMORY_LIMIT}'`)
        connection.disconnectSync()
      }
    },
    release: async () => {
      if (released) return
      released = true
      if (--opened.users > 0) return
      open.delete(file)
      shared.instance.closeSync()
    },
  }
}

async function openShared(file: string): Promise<Shared> {
  const staging = join(
    tmpdir(),
    `constant-tide-staging-${createHash('sha256').update(file).digest('hex').slice(0, 20)}`,
  )
  await probeFolder(dirname(file), 'Give this user the right to write there, or choose another file.')
  try {
    const instance = await DuckDBInstance.create(file, {
      autoinstall_known_extensions: 'false',
      autoload_known_extensions: 'false',
      memory_limit: MEMORY_LIMIT,
      threads: '2',
      checkpoint_threshold: LOG_BYTES,
      preserve_insertion_order: 'false',
    })
    // The file is ours alone now, and so is its staging folder; what a killed process left there goes.
    await rm(staging, { recursive: true, force: true })
    await mkdir(staging, { mode: 0o700 })
    const connection = await instance.connect()
    await connection.run(`SET allowed_directories = ['${staging.replaceAll("'", "''")}/']`)
    await connection.run(`SET GLOBAL TimeZone = 'UTC'`)
    await connection.run('SET enable_external_access = false')
    connection.disconnectSync()
    return { instance, staging, connected: 0, loadedBytes: 0 }
  } catch (error) {
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
    return new Failure(
      'structural',
      `The file ${file} cannot be written.`,
      'Give this user the right to write there, or choose another file.',
      error,
    )
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
