/** A source's log in memory that keeps the contract of a `LogSide`, and can be cut anywhere. */
import type { CopyView, LogSide, LogSink } from '@tide/connectors/contract/source'
import type { Session } from '@tide/connectors/contract/session'
import { Failure } from '@tide/core/failure'
import { csvLine } from '@tide/core/records/csv'
import { parseLsn, printLsn } from '@tide/core/position/lsn'
import type { Position } from '@tide/core/position/position'
import { datasetId, type DatasetName } from '@tide/core/records/dataset'
import { encodeRow } from '@tide/core/records/tuple'

/**
 * One transaction: rows by the name of their table. Without a key it is a new row; with one, that row has the value from
 * now on, or is gone (null).
 */
export type Logged = [table: string, value: string | null, key?: string][]

const STEP = 0x10n
/** Rows in a range of a copy. */
const RANGE = 3
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
  /** Called between the ranges of a copy, which waits for it. */
  onRange: () => void | Promise<void> = () => {}
  /** Called whenever a view is opened. */
  onView = () => {}
  /** How long it waits when there is nothing new. */
  rest = () => new Promise<unknown>(resolve => setTimeout(resolve, 5))
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
    lateMs: 0,
    captureStatements: async () => [],
    captureNote: '',
    open: this.open,
    extend: async () => ({ position: await this.open(), added: [] }),
    inspectHistory: async (_, from) => {
      if (from.incarnation !== this.incarnation)
        throw new Failure('structural', 'Another history.', 'Start again.')
    },
    inspectTables: async () => {},
    close: async () => void (this.kept = false),
    follow: (_, { from, tables }, sink, signal) => this.follow(from, tables, sink, signal),
    view: async () => {
      this.onView()
      return this.view()
    },
  }

  /** A session as a keeper opens one for its reader. */
  session = async (): Promise<Session> => ({ log: this.side, close: async () => {} }) as unknown as Session

  /** A table as it stands. */
  rowsOf(name: string): Map<string, string> {
    const rows = new Map<string, string>()
    for (const [n, transaction] of this.transactions.entries()) {
      for (const [i, [table, value, key = `${n}.${i}`]] of transaction.entries()) {
        if (table !== name) continue
        if (value === null) rows.delete(key)
        else rows.set(key, value)
      }
    }
    return rows
  }

  private view(): CopyView {
    const tables = new Map<string, Map<string, string>>()
    for (const [table] of this.transactions.flat()) tables.set(table, this.rowsOf(table))
    const turn = () => this.onRange()
    return {
      position: this.end,
      readers: 2,
      async *copy({ dataset }, after) {
        const rows = tables.get(dataset.name) ?? new Map<string, string>()
        let start = after ?? ''
        for (;;) {
          const keys = [...rows.keys()].filter(key => key > start).sort()
          const some = keys.slice(0, RANGE)
          const csv = [Buffer.from(some.map(key => csvLine([key, rows.get(key)])).join(''))]
          const upTo = keys.length > RANGE ? some.at(-1)! : null
          yield { csv, upTo }
          await turn()
          if (upTo === null) return
          start = upTo
        }
      },
      close: async () => {},
    }
  }

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
        void this.rest().then(() => resolve())
      })
    }
  }

  private give(n: number, ids: ReadonlyMap<string, number>, sink: LogSink): void {
    this.onEntry()
    sink.begin(place(n), clockAt(n), `x${n}`)
    for (const [i, [table, value, key]] of this.transactions[n]!.entries()) {
      const id = ids.get(table)
      this.onEntry()
      if (id === undefined) continue
      if (key === undefined) sink.insert(id, encodeRow([`${n}.${i}`, value]))
      else if (value === null) sink.remove(id, encodeRow([key, null]))
      else sink.update(id, null, encodeRow([key, value]))
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
