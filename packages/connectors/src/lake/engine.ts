/** The DuckDB of a lake, in a process of its own: it makes Parquet, and answers questions about files. */
import { rm } from 'node:fs/promises'
import { DuckdbHost, type DuckdbConnection } from '../duckdb/host.ts'
import { literal } from '../duckdb/sql.ts'
import { makeStaging } from '../duckdb/staging-folder.ts'

const SETTINGS = {
  autoinstall_known_extensions: 'false',
  autoload_known_extensions: 'false',
  memory_limit: '512MB',
  max_temp_directory_size: '4GB',
  threads: '2',
  preserve_insertion_order: 'true',
}

interface Started {
  host: DuckdbHost
  staging: string
}

/** Started when it is first needed, and anew when it has ended. */
export class LakeEngine {
  /** Folders that SQL may read from, beside the one for what is on its way. */
  private readonly readable: readonly string[]
  private started: Promise<Started> | undefined

  constructor(readable: readonly string[]) {
    this.readable = readable
  }

  async staging(): Promise<string> {
    return (await this.present()).staging
  }

  /** Whoever takes it disconnects. */
  async connect(): Promise<DuckdbConnection> {
    return (await this.present()).host.connect()
  }

  async with<T>(body: (connection: DuckdbConnection) => Promise<T>): Promise<T> {
    const connection = await (await this.present()).host.connect()
    try {
      return await body(connection)
    } finally {
      await connection.disconnect()
    }
  }

  async *streaming<T>(body: (connection: DuckdbConnection) => AsyncGenerator<T>): AsyncGenerator<T> {
    const connection = await (await this.present()).host.connect()
    try {
      yield* body(connection)
    } finally {
      await connection.disconnect()
    }
  }

  async close(): Promise<void> {
    const started = await this.started?.catch(() => undefined)
    this.started = undefined
    if (!started) return
    await started.host.close()
    await rm(started.staging, { recursive: true, force: true })
  }

  private async present(): Promise<Started> {
    const waited = this.started
    const started = await waited?.catch(() => undefined)
    if (started && !started.host.ended) return started
    if (this.started === waited) this.started = this.start(started?.staging)
    return this.started!
  }

  private async start(left: string | undefined): Promise<Started> {
    if (left !== undefined) await rm(left, { recursive: true, force: true })
    const staging = await makeStaging()
    const folders = [staging, ...this.readable].map(folder => literal(`${folder}/`)).join(', ')
    try {
      const host = await DuckdbHost.start(':memory:', SETTINGS, [
        `SET allowed_directories = [${folders}]`,
        `SET GLOBAL TimeZone = 'UTC'`,
        `SET temp_directory = ${literal(`${staging}/spilled`)}`,
        'SET enable_external_access = false',
      ])
      return { host, staging }
    } catch (thrown) {
      await rm(staging, { recursive: true, force: true })
      throw thrown
    }
  }
}
