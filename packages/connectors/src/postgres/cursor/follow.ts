/**
 * Reads rows by the time they were written. It goes from one time to the next, table by table, and only as far as nobody can
 * still commit rows with an earlier time: behind every transaction that is open, and some seconds behind the clock for
 * those that this user is not shown.
 */
import { parseCursorPlace, printCursorPlace, type CursorPlace } from '@tide/core/position/cursor'
import type { DatasetName } from '@tide/core/records/dataset'
import { encodeRow } from '@tide/core/records/tuple'
import type { Pool } from 'pg'
import { setTimeout as sleep } from 'node:timers/promises'
import type { LogReading, LogSink } from '../../contract/source.ts'
import { CHANGES_IN_AN_ANSWER } from '../answers.ts'
import { tableName } from '../catalogue.ts'
import type { PostgresConfig } from '../config.ts'
import { PIN } from '../copy.ts'
import { ident, literal } from '../text.ts'
import { inTransaction } from '../transaction.ts'
import { horizonOf, iso } from './horizon.ts'
import { cursorTables, type CursorTable } from './tables.ts'

interface Read {
  time: string
  key: string[]
  row: (string | null)[]
}

export async function followCursor(
  pool: Pool,
  config: PostgresConfig,
  reading: LogReading,
  sink: LogSink,
  signal: AbortSignal,
): Promise<void> {
  const { cursorEverySeconds: every } = config
  const rounds = new Rounds(pool, config, reading, sink)
  while (!signal.aborted) {
    if (!(await rounds.next())) await sleep(every * 1000, undefined, { signal }).catch(() => {})
  }
}

class Rounds {
  private readonly pool: Pool
  private readonly column: string
  private readonly settle: number
  private readonly names: readonly DatasetName[]
  private readonly stops: readonly string[]
  private readonly sink: LogSink
  private place: CursorPlace
  private readonly described = new Map<number, string>()

  constructor(
    pool: Pool,
    { cursorColumn, cursorSettleSeconds }: PostgresConfig,
    { from, tables, stops }: LogReading,
    sink: LogSink,
  ) {
    this.pool = pool
    this.column = cursorColumn
    this.settle = cursorSettleSeconds
    this.names = tables
    this.stops = stops
    this.sink = sink
    this.place = parseCursorPlace(from.at)
  }

  /** One round over all tables, up to one time; false when there is nothing more for now. */
  async next(): Promise<boolean> {
    const { now, horizon } = await horizonOf(this.pool, this.settle)
    this.sink.heard(microseconds(now), horizon)
    const { upTo, toward } = this.place
    const stop = this.stops
      .map(text => parseCursorPlace(text).upTo)
      .filter(time => time > upTo && time < horizon)
      .sort()[0]
    const time = toward?.time ?? stop ?? horizon
    if (time <= upTo) return false
    const tables = await this.tables()
    for (let n = toward?.table ?? 0; n < tables.length; n++) {
      const there = toward?.table === n
      await this.read(tables[n]!, n, time, there ? toward.row : 0, there ? toward.after : null)
    }
    this.place = { upTo: time }
    this.sink.reached(printCursorPlace(this.place), microseconds(time))
    return time === stop
  }

  /** Rows of one table that were written up to a time, in the order of their times; those of one time are a transaction. */
  private async read(
    table: CursorTable,
    n: number,
    time: string,
    passed: number,
    reached: readonly string[] | null,
  ): Promise<void> {
    const { upTo } = this.place
    let [row, after] = [passed, reached]
    const at = () => printCursorPlace({ upTo, toward: { time, table: n, row, after } })
    for (;;) {
      const rows = await this.rows(table, upTo, time, after)
      for (let i = 0; i < rows.length;) {
        const written = rows[i]!.time
        this.sink.begin(at(), microseconds(written), `${written} ${n}`)
        for (; rows[i]?.time === written; i++, row++) {
          this.sink.update(n + 1, null, encodeRow(rows[i]!.row))
          after = [written, ...rows[i]!.key]
        }
        this.sink.commit(at())
      }
      if (rows.length < CHANGES_IN_AN_ANSWER) return
      if (this.sink.full) await this.sink.room()
    }
  }

  /** The tables as they are now; what has become other is told. */
  private async tables(): Promise<CursorTable[]> {
    const tables = await cursorTables(this.pool, this.names, this.column)
    tables.forEach(({ dataset, columns }, n) => {
      const text = JSON.stringify(columns)
      if (this.described.get(n) === text) return
      this.described.set(n, text)
      this.sink.relation({ id: n + 1, dataset, columns })
    })
    return tables
  }

  private rows(
    table: CursorTable,
    from: string,
    upTo: string,
    after: readonly string[] | null,
  ): Promise<Read[]> {
    const key = table.key.map(part => `t.${ident(part)}`)
    const columns = table.columns.map(({ name }) => `t.${ident(name)}`).join(', ')
    const order = [`t.${ident(this.column)}`, ...key].join(', ')
    return inTransaction(this.pool, async client => {
      await client.query(PIN)
      const found = await client.query({
        text: `SELECT ${columns}, ${iso(this.time(table))}, ${key.map(part => `${part}::text`).join(', ')}
                 FROM ONLY ${tableName(table.dataset)} t WHERE ${this.window(table, from, upTo, after)} ORDER BY ${order} LIMIT ${CHANGES_IN_AN_ANSWER}`,
        rowMode: 'array',
      })
      const width = table.columns.length
      return found.rows.map(values => ({
        row: values.slice(0, width),
        time: values[width],
        key: values.slice(width + 1),
      }))
    })
  }

  private time(table: CursorTable): string {
    const column = `t.${ident(this.column)}`
    return this.isZoneless(table) ? `${column} AT TIME ZONE 'UTC'` : column
  }

  private isZoneless({ columns }: CursorTable): boolean {
    return columns.find(({ name }) => name === this.column)!.nativeType.includes('without time zone')
  }

  /** The column itself is compared, so that an index on it is of use. */
  private window(table: CursorTable, from: string, upTo: string, after: readonly string[] | null): string {
    const zone = this.isZoneless(table) ? ` AT TIME ZONE 'UTC'` : ''
    const bound = (time: string) => `${literal(time)}::timestamptz${zone}`
    const column = `t.${ident(this.column)}`
    const within = `${column} > ${bound(from)} AND ${column} <= ${bound(upTo)}`
    if (!after) return within
    const [time, ...values] = after
    const types = table.key.map(part => table.columns.find(({ name }) => name === part)!.nativeType)
    const reached = [bound(time!), ...values.map((value, i) => `${literal(value)}::${types[i]}`)]
    const place = [column, ...table.key.map(part => `t.${ident(part)}`)].join(', ')
    return `${within} AND (${place}) > (${reached.join(', ')})`
  }
}

/** Since 1970. Times are printed to the microsecond, of which a Date knows only thousands. */
function microseconds(time: string): number {
  const [, whole, fraction = '0'] = /^(.+?)(?:\.(\d+))?Z$/.exec(time)!
  return Date.parse(`${whole}Z`) * 1000 + Number(fraction.padEnd(6, '0').slice(0, 6))
}
