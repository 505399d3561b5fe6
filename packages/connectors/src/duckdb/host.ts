/** The process that holds a DuckDB file (`duckdb-host.mjs`), as seen from here. */
import type { Grid } from '@tide/core/api/browse'
import { Failure } from '@tide/core/failure'
import { fork, type ChildProcess } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import type { QueryLimits, RowBatch, StreamLimits } from '../contract/session.ts'
import { left, tooLarge, tooLong } from '../question/refusal.ts'

/** Threads for calls under way: questions, looks and the writer never wait for each other. */
const THREADS = '16'
/** So long an interrupted question may take to end, before the process is ended instead. */
const STOPS_WITHIN_MS = 3_000

export type HostValue = string | number | boolean | null

interface Answered {
  id: number
  value?: unknown
  error?: { message: string; code?: string }
}

interface Waiting {
  resolve(value: never): void
  reject(error: unknown): void
}

export class DuckdbHost {
  private readonly file: string
  private readonly child: ChildProcess
  private readonly waiting = new Map<number, Waiting>()
  private calls = 0
  private gone: Failure | undefined
  private reason = 'It ended.'
  private readonly exited: Promise<void>

  private constructor(file: string) {
    this.file = file
    this.child = fork(fileURLToPath(new URL('./duckdb-host.mjs', import.meta.url)), {
      serialization: 'advanced',
      execArgv: [],
      // None of our secrets.
      env: { PATH: process.env.PATH, UV_THREADPOOL_SIZE: THREADS },
      stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
    })
    this.child.on('message', ({ id, value, error }: Answered) => {
      const call = this.waiting.get(id)
      this.waiting.delete(id)
      if (error) call?.reject(Object.assign(new Error(error.message), error))
      else call?.resolve(value as never)
    })
    this.exited = new Promise(resolve => {
      this.child.once('exit', (_, signal) => {
        this.end(signal)
        resolve()
      })
      this.child.once('error', error => {
        this.reason = error.message
        this.end(null)
        resolve()
      })
    })
  }

  /** Opens the file, and runs the statements on it before anybody else can. */
  static async start(
    file: string,
    settings: Record<string, string>,
    statements: readonly string[],
  ): Promise<DuckdbHost> {
    const host = new DuckdbHost(file)
    try {
      await host.call('open', { file, settings, statements })
      return host
    } catch (error) {
      host.kill('It could not open the file.')
      throw error
    }
  }

  get ended(): boolean {
    return this.gone !== undefined
  }

  async connect(): Promise<DuckdbConnection> {
    return new DuckdbConnection(this, await this.call<number>('connect', {}))
  }

  async close(): Promise<void> {
    await this.call('close', {}).catch(() => {}) // it may have ended by itself
    await this.exited
  }

  kill(reason: string): void {
    this.reason = reason
    this.child.kill('SIGKILL')
  }

  call<T>(op: string, asked: object): Promise<T> {
    if (this.gone) return Promise.reject(this.gone)
    return new Promise<T>((resolve, reject) => {
      const id = this.calls++
      this.waiting.set(id, { resolve, reject })
      this.child.send({ id, op, ...asked }, error => error && this.end(null))
    })
  }

  private end(signal: string | null): void {
    this.gone ??= new Failure(
      'transient',
      `The process that held ${this.file} has ended${signal ? ` (${signal})` : ''}. ${this.reason}`,
      'It is started anew by itself.',
    )
    for (const call of this.waiting.values()) call.reject(this.gone)
    this.waiting.clear()
  }
}

export class DuckdbConnection {
  readonly host: DuckdbHost
  private readonly number: number

  constructor(host: DuckdbHost, number: number) {
    this.host = host
    this.number = number
  }

  /** How many rows were changed. */
  run(sql: string, values?: readonly string[]): Promise<number> {
    return this.host.call('run', { connection: this.number, sql, values })
  }

  /** All rows; what is no text, number or boolean comes as text. */
  ask(sql: string, values?: readonly string[]): Promise<HostValue[][]> {
    return this.host.call('ask', { connection: this.number, sql, values })
  }

  /** How many statements the text holds. */
  statements(sql: string): Promise<number> {
    return this.host.call('statements', { connection: this.number, sql })
  }

  /** The rows of one statement within limits, in a transaction that can only read. */
  async question(sql: string, limits: QueryLimits): Promise<Grid> {
    const began = performance.now()
    const { maxRows, maxBytes } = limits
    const guard = this.guard(limits)
    try {
      await this.run('BEGIN TRANSACTION READ ONLY')
      const { names, types, rows, cut } = await this.host.call<{
        names: string[]
        types: string[]
        rows: Grid['rows']
        cut: Grid['cut']
      }>('question', { connection: this.number, sql, maxRows, maxBytes })
      if (cut === 'bytes' && rows.length === 0) throw tooLarge(limits)
      return {
        columns: columnsOf(names, types),
        rows,
        cut,
        total: cut ? null : rows.length,
        milliseconds: performance.now() - began,
      }
    } catch (error) {
      throw guard.why ?? error
    } finally {
      await guard.end()
    }
  }

  /** The same batch by batch. */
  async *rows(sql: string, limits: StreamLimits): AsyncGenerator<RowBatch> {
    const guard = this.guard(limits)
    const connection = this.number
    try {
      await this.run('BEGIN TRANSACTION READ ONLY')
      const { names, types } = await this.host.call<{ names: string[]; types: string[] }>('stream', {
        connection,
        sql,
      })
      for (let over = false; !over;) {
        const { rows, done } = await this.host.call<{ rows: Grid['rows']; done: boolean }>('more', {
          connection,
          maxRows: limits.batchRows,
        })
        yield { columns: columnsOf(names, types), rows }
        over = done
      }
    } catch (error) {
      throw guard.why ?? error
    } finally {
      await guard.end()
    }
  }

  /** Runs statements of ours in a transaction that can only read. */
  async *reading<T>(
    body: () => AsyncGenerator<T>,
    limits: Omit<StreamLimits, 'batchRows'>,
  ): AsyncGenerator<T> {
    const guard = this.guard(limits)
    try {
      await this.run('BEGIN TRANSACTION READ ONLY')
      yield* body()
    } catch (error) {
      throw guard.why ?? error
    } finally {
      await guard.end()
    }
  }

  /** Interrupts what is asked when its time is up or nobody waits any more; `why` says which. */
  private guard(limits: Pick<QueryLimits, 'timeoutMs' | 'signal'>) {
    const { timeoutMs, signal } = limits
    if (signal.aborted) throw left()
    let killing: NodeJS.Timeout | undefined
    const guard: { why: Failure | undefined; end(): Promise<void> } = {
      why: undefined,
      end: async () => {
        clearTimeout(timer)
        clearTimeout(killing)
        signal.removeEventListener('abort', leave)
        await this.run('ROLLBACK').catch(() => {}) // when it did not get as far as BEGIN
      },
    }
    const stop = (failure: Failure) => {
      guard.why ??= failure
      void this.host.call('interrupt', { connection: this.number }).catch(() => {})
      killing ??= setTimeout(
        () => this.host.kill('A question did not stop when it was told to.'),
        STOPS_WITHIN_MS,
      )
    }
    const timer = setTimeout(() => stop(tooLong(limits)), timeoutMs)
    const leave = () => stop(left())
    signal.addEventListener('abort', leave)
    return guard
  }

  async disconnect(): Promise<void> {
    await this.host.call('disconnect', { connection: this.number }).catch(() => {}) // with its process all are gone
  }
}

const columnsOf = (names: readonly string[], types: readonly string[]): Grid['columns'] =>
  names.map((name, i) => ({ name, type: types[i]! }))
