/**
 * Follows tables by a column that says when a row was last written, where neither the log nor triggers can be had. It
 * goes from one time to the next, and only as far as nobody can still commit rows with an earlier time: behind every
 * transaction that is open, and some seconds behind the clock for those that this user is not shown.
 */
import { Failure } from '@tide/core/failure'
import { parseCursorPlace, printCursorPlace, type CursorPlace } from '@tide/core/position/cursor'
import type { SourceTransaction } from '@tide/core/records/change'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { Pool } from 'pg'
import { setTimeout as sleep } from 'node:timers/promises'
import type { ChangeBatch, SourceHead, SourceLane, SourceSide } from '../../contract.ts'
import { inTransaction } from '../capture.ts'
import { readCatalogue, tableName } from '../catalogue.ts'
import type { PostgresConfig } from '../config.ts'
import { copyRanges, PIN } from '../copy.ts'
import { CHANGES_IN_AN_ANSWER } from '../answers.ts'
import { ident, literal } from '../text.ts'

const KIND = 'postgres cursor'
/** Times as they are compared and printed: of `timestamp` columns it is taken that they are UTC. */
const iso = (expression: string) =>
  `to_char((${expression}) AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')`

/** Just before the oldest open transaction, whose rows may still come with its time, or some seconds ago. */
const HORIZON = (settleSeconds: number) => `
SELECT ${iso('clock_timestamp()')} AS now, ${iso(`least(
         clock_timestamp() - interval '${settleSeconds} seconds',
         (SELECT min(xact_start) - interval '1 microsecond' FROM pg_catalog.pg_stat_activity
           WHERE datname = current_database() AND pid <> pg_backend_pid() AND backend_type = 'client backend'))`)} AS horizon`

/** What is prepared may still commit rows with times of long ago, and nothing tells since when it has been open. */
const PREPARED = `
SELECT gid, to_char(prepared, 'YYYY-MM-DD HH24:MI:SS') AS since FROM pg_catalog.pg_prepared_xacts
 WHERE database = current_database() ORDER BY prepared LIMIT 1`

type Guard = <T>(work: Promise<T>) => Promise<T>

export function cursorSide(pool: Pool, guard: Guard, config: PostgresConfig): SourceSide {
  const { cursorColumn: column, cursorEverySeconds: every, cursorSettleSeconds: settle } = config
  const reader = new CursorReader(pool, column, settle)
  let known: { at: number; from: string; head: SourceHead } | undefined
  return {
    captureNote: `Nothing is installed; every ${every} seconds each table is asked for rows with a later ${column}, which should be indexed. Deletions, changed keys, and writes that leave ${column} as it is are not seen. New rows are counted as updated.`,
    captureStatements: async () => [],
    startCapture: (_follower, tables) =>
      guard(
        (async () => {
          await reader.inspect(tables)
          const { horizon } = await reader.horizon()
          return {
            kind: KIND,
            incarnation: await reader.incarnation(),
            at: printCursorPlace({ upTo: horizon }),
          }
        })(),
      ),
    stopCapture: async () => {},
    view: async () => ({
      position: null,
      readers: 2,
      copy: (lane, after, signal) => copyRanges(pool, lane, after, signal),
      close: async () => {},
    }),
    read: (_follower, lanes, from, maxEvents) => guard(reader.read(lanes, from, maxEvents)),
    head: (_follower, lanes, from) =>
      guard(
        (async () => {
          const fresh = known && known.from === from.at && Date.now() - known.at < every * 1000
          if (!fresh) known = { at: Date.now(), from: from.at, head: await reader.head(lanes, from.at) }
          return known!.head
        })(),
      ),
    restMs: every * 1000,
    news: (_milliseconds, signal) => sleep(every * 1000, undefined, { signal }).catch(() => {}),
    acknowledge: async () => {},
  }
}

class CursorReader {
  private readonly pool: Pool
  private readonly column: string
  private readonly settle: number
  private incarnationSeen: string | undefined

  constructor(pool: Pool, column: string, settle: number) {
    this.pool = pool
    this.column = column
    this.settle = settle
  }

  /** Fails, to be tried again, while a transaction is prepared. */
  async horizon(): Promise<{ now: string; horizon: string }> {
    const { rows } = await this.pool.query(HORIZON(this.settle))
    // Asked afterwards: what was prepared in between was open before, or is named here.
    const [prepared] = (await this.pool.query(PREPARED)).rows
    if (!prepared) return rows[0]
    throw new Failure(
      'transient',
      `The transaction ${prepared.gid}, prepared at ${prepared.since}, may still commit rows with earlier times; the cursor waits for it.`,
      `End it: COMMIT PREPARED ${literal(prepared.gid)}; or ROLLBACK PREPARED ${literal(prepared.gid)}; it goes on by itself then.`,
    )
  }

  /** The database itself; one that was restored elsewhere is another one. */
  async incarnation(): Promise<string> {
    const { rows } = await this.pool.query(
      `SELECT (SELECT system_identifier FROM pg_catalog.pg_control_system())::text AS system, oid::text FROM pg_catalog.pg_database WHERE datname = current_database()`,
    )
    return `${rows[0].system} ${rows[0].oid}`
  }

  async inspect(tables: readonly DatasetName[]): Promise<void> {
    const { datasets } = await readCatalogue(this.pool, 'cursor', this.column)
    for (const { namespace, name } of tables) {
      const found = datasets.find(one => one.namespace === namespace && one.name === name)
      const why = found ? found.notFollowed : 'it is not there any more'
      if (why)
        throw new Failure(
          'structural',
          `${printName({ namespace, name })} cannot be followed: ${why}.`,
          'Leave it out in the setup, or mend it at the source.',
        )
    }
  }

  /** The next rows in the order of their times, table by table, each round up to one time for all tables. */
  async read(
    lanes: readonly SourceLane[],
    from: { kind: string; incarnation: string; at: string },
    maxEvents: number,
  ): Promise<ChangeBatch> {
    await this.refuseAnother(from.incarnation)
    const begun = parseCursorPlace(from.at)
    const { now, horizon } = await this.horizon()
    const toward = begun.toward ?? { time: horizon, table: 0, after: null }
    const to = (place: CursorPlace) => ({ ...from, at: printCursorPlace(place) })
    if (toward.time <= begun.upTo) {
      const head = { now, completeUpTo: begun.upTo, pendingChanges: 0, oldestPending: null }
      return { transactions: [], to: from, complete: true, head }
    }
    await this.inspectColumns(lanes)
    const transactions: SourceTransaction[] = []
    let [left, after] = [Math.min(maxEvents, CHANGES_IN_AN_ANSWER), toward.after]
    for (let table = toward.table; table < lanes.length; table++, after = null) {
      const rows = await this.rows(lanes[table]!, begun.upTo, toward.time, after, left)
      for (const { time, row } of rows) {
        const last = transactions.at(-1)
        const event = { op: 'update' as const, lane: table, before: row, after: row }
        if (last && last.at === time && last.events[0]!.lane === table) last.events.push(event)
        else transactions.push({ id: `${time} ${table}`, at: time, events: [event] })
      }
      left -= rows.length
      if (left > 0) continue
      const last = rows.at(-1)!
      const place = { upTo: begun.upTo, toward: { ...toward, table, after: [last.time, ...last.key] } }
      const pending = await this.pending(lanes, place)
      const oldestPending = pending > 0 ? last.time : null
      const head = { now, completeUpTo: null, pendingChanges: pending, oldestPending }
      return { transactions, to: to(place), complete: true, head }
    }
    const head = { now, completeUpTo: toward.time, pendingChanges: 0, oldestPending: null }
    return { transactions, to: to({ upTo: toward.time }), complete: true, head }
  }

  async head(lanes: readonly SourceLane[], at: string): Promise<SourceHead> {
    const place = parseCursorPlace(at)
    const { now, horizon } = await this.horizon()
    const pendingChanges = await this.pending(lanes, place)
    const reached = pendingChanges === 0
    return {
      now,
      completeUpTo: reached ? horizon : null,
      pendingChanges,
      oldestPending: reached ? null : place.upTo,
    }
  }

  private async refuseAnother(incarnation: string): Promise<void> {
    this.incarnationSeen ??= await this.incarnation()
    if (this.incarnationSeen === incarnation) return
    throw new Failure(
      'structural',
      'The source is another database than the one that was copied.',
      'Was it restored or replaced? Start again: the tables are copied anew.',
    )
  }

  /** Whether the columns are those that the lanes were planned with. */
  private async inspectColumns(lanes: readonly SourceLane[]): Promise<void> {
    const { rows } = await this.pool.query(
      `SELECT t.place::text, a.attname, pg_catalog.format_type(a.atttypid, a.atttypmod) AS native
         FROM unnest($1::text[]) WITH ORDINALITY t(name, place)
         JOIN pg_catalog.pg_attribute a ON a.attrelid = to_regclass(t.name) AND a.attnum > 0 AND NOT a.attisdropped`,
      [lanes.map(({ dataset }) => tableName(dataset))],
    )
    for (const [i, { dataset, columns }] of lanes.entries()) {
      const there = rows.filter(row => Number(row.place) === i + 1)
      const changed = columns.find(
        ({ source, nativeType }) =>
          !there.some(({ attname, native }) => attname === source && native === nativeType),
      )
      const added = there.find(({ attname }) => !columns.some(({ source }) => source === attname))
      if (!changed && !added) continue
      throw new Failure(
        'structural',
        there.length === 0
          ? `The table ${printName(dataset)} is not there any more.`
          : `The columns of ${printName(dataset)} were changed at the source: ${changed ? changed.source : `${added.attname} is new`}.`,
        'Start again: the tables are copied anew with the columns they have now.',
      )
    }
  }

  private rows(
    lane: SourceLane,
    from: string,
    upTo: string,
    after: readonly string[] | null,
    limit: number,
  ): Promise<{ time: string; key: string[]; row: (string | null)[] }[]> {
    const key = lane.key.map(part => `t.${ident(part)}`)
    const columns = lane.columns.map(({ source }) => `t.${ident(source)}`).join(', ')
    const order = [`t.${ident(this.column)}`, ...key].join(', ')
    return inTransaction(this.pool, async client => {
      await client.query(PIN)
      const found = await client.query({
        text: `SELECT ${columns}, ${iso(this.time(lane))}, ${key.map(part => `${part}::text`).join(', ')}
                 FROM ONLY ${tableName(lane.dataset)} t WHERE ${this.window(lane, from, upTo, after)} ORDER BY ${order} LIMIT ${limit}`,
        rowMode: 'array',
      })
      const width = lane.columns.length
      return found.rows.map(values => ({
        row: values.slice(0, width),
        time: values[width],
        key: values.slice(width + 1),
      }))
    })
  }

  private time(lane: SourceLane): string {
    const column = `t.${ident(this.column)}`
    return this.isZoneless(lane) ? `${column} AT TIME ZONE 'UTC'` : column
  }

  private isZoneless(lane: SourceLane): boolean {
    const native = lane.columns.find(({ source }) => source === this.column)?.nativeType ?? ''
    return native.includes('without time zone')
  }

  /** The column itself is compared, so that an index on it is of use. */
  private window(lane: SourceLane, from: string, upTo: string, after: readonly string[] | null): string {
    const zone = this.isZoneless(lane) ? ` AT TIME ZONE 'UTC'` : ''
    const bound = (time: string) => `${literal(time)}::timestamptz${zone}`
    const column = `t.${ident(this.column)}`
    const within = `${column} > ${bound(from)} AND ${column} <= ${bound(upTo)}`
    if (!after) return within
    const [time, ...values] = after
    const types = lane.key.map(name => lane.columns.find(({ source }) => source === name)!.nativeType)
    const reached = [bound(time!), ...values.map((value, i) => `${literal(value)}::${types[i]}`)]
    const place = [column, ...lane.key.map(part => `t.${ident(part)}`)].join(', ')
    return `${within} AND (${place}) > (${reached.join(', ')})`
  }

  private async pending(lanes: readonly SourceLane[], { upTo, toward }: CursorPlace): Promise<number> {
    const counts = lanes.map((lane, i) => {
      const passed = toward && i < toward.table
      const after = toward?.table === i ? toward.after : null
      const where = this.window(lane, passed ? toward.time : upTo, 'infinity', after)
      return `(SELECT count(*) FROM ONLY ${tableName(lane.dataset)} t WHERE ${where})`
    })
    const { rows } = await this.pool.query(`SELECT (${counts.join(' + ')})::text AS pending`)
    return Number(rows[0].pending)
  }
}
