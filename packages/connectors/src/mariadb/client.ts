import { setTimeout as sleep } from 'node:timers/promises'
import mysql, { type Connection, type ConnectionOptions, type FieldPacket, type TypeCastField } from 'mysql2'
import { checkServerIdentity, type TLSSocket } from 'node:tls'
import { tlsOptions } from '../server-settings.ts'
import type { MariadbConfig } from './config.ts'

/** Settings under which the server prints canonical text, and takes nothing that does not fit. */
const SETTINGS = [
  `SET SESSION time_zone = '+00:00', sql_mode = 'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES',
       wait_timeout = 86400, net_write_timeout = 600, innodb_lock_wait_timeout = 20`,
]

/** How long a server may take to give up a transaction before it is left to notice by itself. */
const ABANDON_MS = 2_000

/** Every value as the server prints it: no parsing, so no rounding. */
const asText = (field: TypeCastField) => field.string()

function clientOptions(config: MariadbConfig): ConnectionOptions {
  const ssl = tlsOptions(config)
  return {
    host: config.host,
    port: config.port,
    user: config.user,
    password: config.password,
    charset: 'utf8mb4_bin',
    connectTimeout: 10_000,
    enableKeepAlive: true,
    supportBigNumbers: true,
    ...(ssl ? { ssl } : {}),
  }
}

/** What the driver does to encrypt, beneath its typed face. */
interface Encrypting {
  startTLS(onSecure: (error?: Error) => void): void
  stream: TLSSocket
}

/**
 * A connection that is up. The driver does not know whose certificate to expect of an address, so we look at that, and it
 * gives every fault of TLS one code, so we keep theirs.
 */
export async function connect(config: MariadbConfig, options: ConnectionOptions = {}): Promise<Connection> {
  const connection = mysql.createConnection({ ...clientOptions(config), ...options })
  const wire = connection as unknown as Encrypting
  const startTLS = wire.startTLS.bind(connection)
  let refused: Error | undefined
  wire.startTLS = onSecure =>
    startTLS(fault => {
      const certificate = () => wire.stream.getPeerCertificate(true)
      const error =
        fault ?? (config.tls === 'verify' ? checkServerIdentity(config.host, certificate()) : undefined)
      if (error) refused = Object.assign(new Error(error.message), error)
      onSecure(error)
    })
  connection.on('error', () => {}) // whoever waits hears of it below, and later listens for itself
  await new Promise<void>((resolve, reject) =>
    connection.connect(error => (error ? reject(refused ?? error) : resolve())),
  ).catch(error => {
    connection.destroy()
    throw error
  })
  return connection
}

/** One connection to the server; whoever opens it closes it. */
export class Session {
  readonly connection: Connection
  private broken: Error | undefined
  /** Those who wait for an answer, each told what ended the connection: the driver does not tell all of them. */
  private readonly waiting = new Set<(ended: Error) => void>()

  private constructor(connection: Connection) {
    this.connection = connection
    connection.on('error', error => this.end(error))
  }

  static async open(config: MariadbConfig, options: ConnectionOptions = {}): Promise<Session> {
    const session = new Session(await connect(config, options))
    try {
      for (const statement of SETTINGS) await session.run(statement)
      return session
    } catch (error) {
      session.destroy()
      throw error
    }
  }

  /** Whether it was cut. */
  get cut(): boolean {
    return this.broken !== undefined
  }

  /** The rows as objects of texts. */
  async rows<T>(sql: string): Promise<T[]> {
    return (await this.query(sql, false)) as T[]
  }

  /** The rows as arrays of texts. */
  async arrays(sql: string): Promise<(string | null)[][]> {
    return (await this.query(sql, true)) as (string | null)[][]
  }

  /** Gives the rows as they come until `take` wants no more; then the connection is of no more use. */
  eachRow(
    sql: string,
    describe: (columns: { name: string; type: string }[]) => void,
    take: (row: (string | null)[]) => boolean,
  ): Promise<void> {
    return this.answered((resolve, reject) => {
      const query = this.connection.query({ sql, rowsAsArray: true, typeCast: asText } as never)
      query.on('fields', (fields: FieldPacket[] | undefined) => describe(columnsOf(fields)))
      query.on('result', (row: unknown) => {
        try {
          if (!take(row as (string | null)[])) resolve()
        } catch (error) {
          reject(error as Error)
        }
      })
      query.on('error', reject)
      query.on('end', () => resolve())
    })
  }

  /** How many rows the statement has changed. */
  async run(sql: string, options: object = {}): Promise<number> {
    const result = (await this.query(sql, false, options)) as { affectedRows?: number }
    return result.affectedRows ?? 0
  }

  /** Rows one after another as the bytes they come in, with the back-pressure of a stream. */
  buffers(sql: string): AsyncIterable<(Buffer | null)[]> {
    return this.streamed(sql, field => field.buffer())
  }

  /** Rows one after another as texts, with the same back-pressure. */
  stream(
    sql: string,
    describe: (columns: { name: string; type: string }[]) => void,
  ): AsyncIterable<(string | null)[]> {
    return this.streamed(sql, asText, describe)
  }

  private streamed<T>(
    sql: string,
    typeCast: (field: TypeCastField) => T | null,
    describe?: (columns: { name: string; type: string }[]) => void,
  ): AsyncIterable<(T | null)[]> {
    if (this.broken) throw this.broken
    const query = this.connection.query({ sql, rowsAsArray: true, typeCast } as never)
    if (describe) query.on('fields', (fields: FieldPacket[] | undefined) => describe(columnsOf(fields)))
    const rows = query.stream({ highWaterMark: 500 })
    const fail = (ended: Error) => void rows.destroy(ended)
    this.waiting.add(fail)
    rows.once('close', () => this.waiting.delete(fail))
    return rows as unknown as AsyncIterable<(T | null)[]>
  }

  async close(): Promise<void> {
    if (this.broken) return this.destroy()
    await new Promise<void>(resolve => this.connection.end(() => resolve()))
  }

  /** Ends the transaction, so that no lock outlives us, and the connection with it. */
  async abandon(): Promise<void> {
    if (!this.broken) await Promise.race([this.run('ROLLBACK').catch(() => {}), sleep(ABANDON_MS)])
    this.destroy()
  }

  /** At once, whatever is under way. */
  destroy(): void {
    this.connection.destroy()
    this.end(new Error('ECONNRESET: the connection was closed'))
  }

  private query(sql: string, rowsAsArray: boolean, options: object = {}): Promise<unknown> {
    return this.answered((resolve, reject) => {
      this.connection.query({ sql, rowsAsArray, typeCast: asText, ...options } as never, (error, result) => {
        if (error?.fatal) this.end(error)
        if (error) reject(error)
        else resolve(result)
      })
    })
  }

  /** What `ask` has for an answer, or what has ended the connection. */
  private answered<T>(
    ask: (resolve: (answer: T) => void, reject: (error: Error) => void) => void,
  ): Promise<T> {
    return new Promise<T>((resolve, reject) => {
      if (this.broken) return reject(this.broken)
      this.waiting.add(reject)
      const over =
        <A>(settle: (outcome: A) => void) =>
        (outcome: A) => {
          this.waiting.delete(reject)
          settle(outcome)
        }
      ask(over(resolve), over(reject))
    })
  }

  private end(error: Error): void {
    this.broken ??= error
    for (const fail of this.waiting) fail(error)
    this.waiting.clear()
  }
}

function columnsOf(fields: FieldPacket[] | undefined): { name: string; type: string }[] {
  const types = mysql.Types as unknown as Record<number, string>
  return (fields ?? []).map(({ name, columnType }) => ({
    name,
    type: (types[columnType ?? -1] ?? '').toLowerCase(),
  }))
}

/** Runs `body` in a session of its own. */
export async function withSession<T>(
  config: MariadbConfig,
  body: (session: Session) => Promise<T>,
): Promise<T> {
  const session = await Session.open(config)
  try {
    return await body(session)
  } finally {
    await session.close()
  }
}
