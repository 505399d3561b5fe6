/** A source's log in memory that keeps the contract of a `LogSide`, and can be cut anywhere. */
import type { LogSide, LogSink, Session } from '@tide/connectors/contract'
import { Failure } from '@tide/core/failure'
import { parseLsn, printLsn } from '@tide/core/position/lsn'
import type { Position } from '@tide/core/position/position'
import { datasetId, type DatasetName } from '@tide/core/records/dataset'
import { encodeRow } from '@tide/core/records/tuple'

/** One transaction: rows by the name of their table. */
export type Logged = [table: string, value: string][]

const STEP = 0x10n
const place = (n: number) => printLsn(0x100n + BigInt(n) * STEP)
/** When transaction `n` was committed, in microseconds. */
export const clockAt = (n: number) => 1_700_000_000_000_000 + n * 1_000
export const tableOf = (name: string): DatasetName => ({ namespace: 'nursery', name })

export class MemoryLog {
  readonly transactions: Logged[] = []
  incarnation = 'one'
  /** Called before each entry that is handed over; what it throws cuts the reading. */
  onEntry = () => {}
  /** How far the reader has said that it is durable. */
  acknowledged = 0
  /** Whether the source keeps its log for a reader. */
  kept = false
  readings = 0
  private readonly told: (() => void)[] = []

  commit(...transactions: Logged[]): void {
    this.transactions.push(...transactions)
    for (const tell of this.told.splice(0)) tell()
  }

  get end(): Position {
    return { kind: 'postgres log', incarnation: this.incarnation, at: place(this.transactions.length) }
  }

  private open = async (): Promise<Position> => {
    this.kept = true
    return this.end
  }

  readonly side: LogSide = {
    retention: { hours: 72, bytes: 2 ** 30, hardBytes: 0 },
    selectsTables: true,
    captureStatements: async () => [],
    captureNote: '',
    open: this.open,
    extend: async (_, tables) => ({ position: await this.open(), added: [...tables] }),
    inspectHistory: async (_, from) => {
      if (from.incarnation !== this.incarnation)
        throw new Failure('structural', 'Another history.', 'Start again.')
    },
    inspectTables: async () => {},
    close: async () => void (this.kept = false),
    follow: (_, from, tables, sink, signal) => this.follow(from, tables, sink, signal),
    view: () => Promise.reject(new Error('nothing is copied here')),
  }

  /** A session as a keeper opens one for its reader. */
  session = async (): Promise<Session> => ({ log: this.side, close: async () => {} }) as unknown as Session

  private async follow(
    from: Position,
    tables: readonly DatasetName[],
    sink: LogSink,
    signal: AbortSignal,
  ): Promise<void> {
    this.readings++
    await this.side.inspectHistory('', from)
    const ids = new Map(tables.map(({ name }, i) => [name, i + 1]))
    for (const table of tables) {
      const columns = ['id', 'v'].map(name => ({ name, nativeType: 'text' }))
      sink.relation({ id: ids.get(table.name)!, dataset: table, columns })
    }
    let next = Number((parseLsn(from.at) - 0x100n) / STEP)
    while (!signal.aborted) {
      for (; next < this.transactions.length; next++) {
        this.give(next, ids, sink)
        if (sink.full) await sink.room()
      }
      sink.heard(clockAt(next), place(next))
      sink.reached(place(next), clockAt(next))
      this.acknowledged = Number((parseLsn(sink.durable()) - 0x100n) / STEP)
      await new Promise<void>(resolve => {
        this.told.push(resolve)
        setTimeout(resolve, 5)
      })
    }
  }

  private give(n: number, ids: ReadonlyMap<string, number>, sink: LogSink): void {
    this.onEntry()
    sink.begin(place(n), clockAt(n), `x${n}`)
    for (const [i, [table, value]] of this.transactions[n]!.entries()) {
      const id = ids.get(table)
      this.onEntry()
      if (id !== undefined) sink.insert(id, encodeRow([`${n}.${i}`, value]))
    }
    this.onEntry()
    sink.commit(place(n + 1))
  }
}

/** What a journal that holds these tables must hold of the log. */
export function expectedLines(log: MemoryLog, from: number, tables: readonly DatasetName[]): string[] {
  const known = new Set(tables.map(datasetId))
  return log.transactions
    .slice(from)
    .flatMap((rows, n) =>
      rows.flatMap(([table, value], i) =>
        known.has(datasetId(tableOf(table))) ? [`x${from + n} ${table} ${from + n}.${i} ${value}`] : [],
      ),
    )
}
