/** Reads the change table from snapshot to snapshot, for as long as it is wanted. */
import { compareSnapshots, parsePlace, printPlace, type ChangeTablePlace } from '@tide/core/position/snapshot'
import { datasetId, type DatasetName } from '@tide/core/records/dataset'
import { encodeRow } from '@tide/core/records/tuple'
import type { Pool } from 'pg'
import { setTimeout as sleep } from 'node:timers/promises'
import type { LogReading, LogSink } from '../../contract/source.ts'
import { CHANGES_IN_AN_ANSWER } from '../answers.ts'
import { CAPTURE_SCHEMA } from '../catalogue.ts'
import { parseComposite } from '../text.ts'
import { keepNumbers } from './capture.ts'
import { changesOf, list, LIST_AT_ONCE, MICROSECONDS, type Listed, type Recorded } from './listing.ts'
import { describe, lookAtCapture, refuseUnwatched, tooLarge, type Watched } from './watched.ts'

/** How long it rests when there is nothing new. */
const REST_MS = 200
/** How often the capture itself is looked at while nothing changes. */
const LOOK_EVERY_MS = 5_000
/** How often what is durable is taken out of the change table. */
const PRUNE_EVERY_MS = 1_000
/** Pruned changes leave dead rows behind; after this many the change table is vacuumed. */
const VACUUM_AFTER = 20_000

const NOW = `SELECT pg_current_snapshot()::text AS snapshot, ${MICROSECONDS('statement_timestamp()')} AS clock`

/** The source's clock is read as the statement came in, before it took its snapshot: what it does not see is later. */
interface Moment {
  snapshot: string
  clock: number
}

export async function followChangeTable(
  pool: Pool,
  reader: string,
  reading: LogReading,
  sink: LogSink,
  signal: AbortSignal,
): Promise<void> {
  await new Following(pool, reader, reading, sink).run(signal)
}

class Following {
  private readonly pool: Pool
  private readonly reader: string
  private readonly sink: LogSink
  private readonly names: readonly DatasetName[]
  private readonly stops: readonly string[]
  private place: ChangeTablePlace
  /** When the snapshot that it goes toward was taken; null when that is not known any more. */
  private towardAt: number | null = null
  /** By oid, as they were described last. */
  private tables = new Map<string, Watched>()
  private described = new Map<string, string>()
  /** By oid, the name that each is followed by, whatever it is called by now. */
  private readonly followed = new Map<string, DatasetName>()
  private looked = -Infinity
  private prunedAt = -Infinity
  private prunedUpTo = ''
  private dead = 0

  constructor(pool: Pool, reader: string, { from, tables, stops }: LogReading, sink: LogSink) {
    this.pool = pool
    this.reader = reader
    this.sink = sink
    this.names = tables
    this.stops = stops
    this.place = parsePlace(from.at)
  }

  async run(signal: AbortSignal): Promise<void> {
    await this.look()
    while (!signal.aborted) {
      const began = performance.now()
      const more = await this.step()
      await this.prune()
      const rest = began + REST_MS - performance.now()
      if (!more && rest > 0) await sleep(rest, undefined, { signal }).catch(() => {})
    }
  }

  /** Gives what the next listing holds; false when there is nothing more for now. */
  private async step(): Promise<boolean> {
    if (performance.now() - this.looked > LOOK_EVERY_MS) await this.look()
    const now = await this.now()
    this.sink.heard(now.clock, now.snapshot)
    const toward = this.place.toward ?? this.nextStop(now)
    const onTheWay = { ...this.place, toward }
    const listed = await list(this.pool, onTheWay, [...this.tables.keys()])
    if (listed.length > 0) {
      if (this.place.toward === undefined) await keepNumbers(this.pool, this.reader)
      // What was written before the listing's snapshot was written in the shape that is found after it.
      await this.look()
      await this.give(onTheWay, listed)
    }
    if (listed.length === LIST_AT_ONCE) {
      this.place = { ...onTheWay, last: listed.at(-1)!.last }
      return true
    }
    // Where nothing was listed, the place before says the same, and it is known to outlast a crash of the source.
    const underWay = this.place.toward !== undefined
    if (listed.length > 0 || underWay || this.stops.includes(toward)) this.place = { seen: toward }
    if (this.towardAt === null) return true
    this.sink.reached(printPlace(this.place), this.towardAt)
    return listed.length > 0
  }

  /** A position that was given out lies on the way, so that others can begin there. */
  private nextStop({ snapshot, clock }: Moment): string {
    const ahead = this.stops
      .map(stop => parsePlace(stop).seen)
      .filter(stop => compareSnapshots(stop, this.place.seen) === 'after')
    const stop = ahead.reduce<string | undefined>(
      (first, one) => (first === undefined || compareSnapshots(one, first) === 'before' ? one : first),
      undefined,
    )
    const before = stop !== undefined && compareSnapshots(stop, snapshot) === 'before'
    this.towardAt = before ? null : clock
    return before ? stop : snapshot
  }

  private async give(place: ChangeTablePlace, listed: readonly Listed[]): Promise<void> {
    let start = printPlace(place)
    for (let at = 0; at < listed.length;) {
      const chosen = choose(listed, at)
      at += chosen.length
      if (chosen.length > 1 || chosen[0]!.count <= CHANGES_IN_AN_ANSWER) {
        const byId = new Map<string, Recorded[]>(chosen.map(({ xid }) => [xid, []]))
        for (const change of await this.changes(chosen, 0n, CHANGES_IN_AN_ANSWER + 1))
          byId.get(change.xid)!.push(change)
        for (const one of chosen) {
          start = await this.transaction(place, start, one, async () => {
            for (const change of byId.get(one.xid)!) await this.change(change)
          })
        }
      } else {
        const [one] = chosen
        start = await this.transaction(place, start, one!, () => this.inParts(one!))
      }
      if (this.sink.full) await this.sink.room()
    }
  }

  private async transaction(
    place: ChangeTablePlace,
    start: string,
    { xid, at, last }: Listed,
    changes: () => Promise<void>,
  ): Promise<string> {
    const end = printPlace({ ...place, last })
    this.sink.begin(start, at, xid)
    await changes()
    this.sink.commit(end)
    return end
  }

  private async inParts(one: Listed): Promise<void> {
    for (let after = 0n; ;) {
      const changes = await this.changes([one], after, CHANGES_IN_AN_ANSWER)
      for (const change of changes) await this.change(change)
      if (changes.length < CHANGES_IN_AN_ANSWER) return
      after = BigInt(changes.at(-1)!.seq)
      if (this.sink.full) await this.sink.room()
    }
  }

  private changes(of: readonly Listed[], after: bigint, most: number): Promise<Recorded[]> {
    return changesOf(this.pool, of, [...this.tables.keys()], after, most)
  }

  private async change({ relation, op, before, after, large, seq }: Recorded): Promise<void> {
    if (large === 't') throw await tooLarge(this.pool, this.tables.get(relation)!, seq)
    const id = Number(relation)
    const row = (text: string | null) => encodeRow(parseComposite(text!))
    switch (op) {
      case 'i':
        return this.sink.insert(id, row(after))
      case 'u':
        return this.sink.update(id, row(before), row(after))
      case 'd':
        return this.sink.remove(id, row(before))
      case 't':
        return this.sink.truncate(id)
    }
  }

  /** Whether all is still as it was entered; tells of tables that are not. */
  private async look(): Promise<void> {
    const capture = await lookAtCapture(this.pool, this.reader)
    if (this.looked === -Infinity) {
      refuseUnwatched(capture, this.names)
      for (const { oid, dataset } of capture.tables) if (dataset) this.followed.set(oid, dataset)
    }
    this.looked = performance.now()
    const wanted = new Set(this.names.map(datasetId))
    this.tables = new Map()
    for (const table of capture.tables) {
      const name = this.followed.get(table.oid)
      if (!name || !wanted.has(datasetId(name))) continue
      this.tables.set(table.oid, table)
      const relation = describe(table, name)
      const text = JSON.stringify(relation)
      if (this.described.get(table.oid) === text) continue
      this.described.set(table.oid, text)
      this.sink.relation(relation)
    }
  }

  private async now(): Promise<Moment> {
    const { rows } = await this.pool.query(NOW)
    return { snapshot: rows[0].snapshot, clock: Number(rows[0].clock) }
  }

  /** The source need not keep what the journal has. */
  private async prune(): Promise<void> {
    const { seen } = parsePlace(this.sink.durable())
    if (seen === this.prunedUpTo || performance.now() - this.prunedAt < PRUNE_EVERY_MS) return
    this.prunedAt = performance.now()
    this.dead += await forget(this.pool, this.reader, seen)
    this.prunedUpTo = seen
    if (this.dead < VACUUM_AFTER) return
    this.dead = 0
    await this.pool.query(`VACUUM (TRUNCATE off) ${CAPTURE_SCHEMA}.change`)
  }
}

/** Transactions from `at` on whose changes come in one answer; a larger one comes alone. */
function choose(listed: readonly Listed[], at: number): readonly Listed[] {
  let [sum, end] = [0, at]
  while (end < listed.length && (end === at || sum + listed[end]!.count <= CHANGES_IN_AN_ANSWER))
    sum += listed[end++]!.count
  return listed.slice(at, end)
}

/** Takes out what every reader has. Returns how many changes went. */
async function forget(pool: Pool, reader: string, seen: string): Promise<number> {
  const S = CAPTURE_SCHEMA
  await pool.query(`UPDATE ${S}.follower SET seen = $2::pg_snapshot WHERE id = $1`, [reader, seen])
  const gone = await pool.query(`
    DELETE FROM ${S}.change c
     WHERE NOT EXISTS (SELECT FROM ${S}.follower f WHERE NOT pg_visible_in_snapshot(c.xid, f.seen))`)
  return gone.rowCount ?? 0
}
