/** Reads a slot's log into a sink: streaming replication, acknowledged only as far as the sink is durable. */
import { Failure } from '@tide/core/failure'
import { parseLsn, printLsn } from '@tide/core/position/lsn'
import type { Position } from '@tide/core/position/position'
import { setTimeout as sleep } from 'node:timers/promises'
import type { Pool } from 'pg'
import type { LogSink } from '../../contract/source.ts'
import type { PostgresConfig } from '../config.ts'
import { literal } from '../text.ts'
import { EPOCH_2000, PgoutputDecoder, timeAt, type SentRelation } from './decoder.ts'
import { identifySystem, openReplication, withReplication, type ReplicationClient } from './replication.ts'
import { LOG_END, slotName } from './slot.ts'

/** How often the source is told what is durable here, and asked where its log ends. */
const STATUS_MS = 1_000
/** A slot stays taken for a moment after its reader has left. */
const BUSY_TRIES = 40

const HEAD = `SELECT (extract(epoch FROM clock_timestamp()) * 1000000)::bigint::text AS now, ${LOG_END}::text AS at`

export async function followSlot(
  config: PostgresConfig,
  pool: Pool,
  reader: string,
  from: Position,
  sink: LogSink,
  signal: AbortSignal,
): Promise<void> {
  await refuseAnotherHistory(config, pool, reader, from)
  const client = await openReplication(config)
  try {
    await new Stream(client, pool, reader, sink).run(from.at, signal)
  } finally {
    await client.end().catch(() => {})
  }
}

/** A source that is not the one the position is from, or does not hold what follows it, is never followed. */
export async function refuseAnotherHistory(
  config: PostgresConfig,
  pool: Pool,
  reader: string,
  from: Position,
): Promise<void> {
  const { incarnation } = await withReplication(config, identifySystem)
  const remedy = 'Start the pipelines on it again: their tables are copied anew.'
  if (incarnation !== from.incarnation) {
    const [system, timeline] = from.incarnation.split('/')
    const same = incarnation.startsWith(`${system}/`)
    throw new Failure(
      'structural',
      same
        ? `The source has failed over or was restored: it goes on from another timeline (${incarnation.split('/')[1]} where ${timeline} was followed).`
        : 'Another server answers under this address: its system identifier is not the one that was followed.',
      remedy,
    )
  }
  const slots = await pool.query(
    `SELECT confirmed_flush_lsn::text AS confirmed, to_jsonb(s)->>'wal_status' AS status, ${LOG_END}::text AS head
       FROM pg_catalog.pg_replication_slots s WHERE slot_name = $1`,
    [slotName(reader)],
  )
  const slot = slots.rows[0]
  if (!slot) {
    throw new Failure(
      'structural',
      `The replication slot ${slotName(reader)} is gone from the source; what was committed since is not known.`,
      remedy,
    )
  }
  if (slot.status === 'lost') {
    throw new Failure(
      'structural',
      `The source has thrown away log that the slot ${slotName(reader)} still needed (max_slot_wal_keep_size).`,
      remedy,
    )
  }
  const here = parseLsn(from.at)
  if (parseLsn(slot.confirmed) > here) {
    throw new Failure(
      'structural',
      `The slot ${slotName(reader)} stands at ${slot.confirmed}, the journal ends at ${from.at}: what is between was read by somebody else.`,
      remedy,
    )
  }
  if (parseLsn(slot.head) < here) {
    throw new Failure(
      'structural',
      `The source’s log ends at ${slot.head}, before ${from.at} which was already read: it was set back to an earlier state.`,
      remedy,
    )
  }
}

class Stream {
  private readonly client: ReplicationClient
  private readonly pool: Pool
  private readonly reader: string
  private readonly sink: LogSink
  private readonly decoder: PgoutputDecoder
  private readonly types = new Map<string, string>()
  /** Set while a table's types are asked for; what comes meanwhile waits. */
  private waiting: Buffer[] | undefined
  private paused = false
  private inTransaction = false
  private started = false
  private ended = false
  private fail: (error: unknown) => void = () => {}
  /** Where the log ended when it was last asked, and the source's clock then. */
  private head: { at: bigint; clock: number } | undefined
  private heardUpTo = 0n

  constructor(client: ReplicationClient, pool: Pool, reader: string, sink: LogSink) {
    this.client = client
    this.pool = pool
    this.reader = reader
    this.sink = sink
    this.decoder = new PgoutputDecoder(sink, (oid, modifier) => this.types.get(`${oid} ${modifier}`))
  }

  async run(from: string, signal: AbortSignal): Promise<void> {
    await this.learnPublishedTypes()
    const { connection } = this.client
    const broken = new Promise<never>((_, reject) => (this.fail = reject))
    broken.catch(() => {}) // it is awaited below
    connection.on('copyData', ({ chunk }) => {
      try {
        this.take(chunk)
      } catch (error) {
        this.fail(error)
      }
    })
    connection.stream.once('close', () => this.fail(new Error('Connection terminated')))
    await Promise.race([this.start(from), broken])
    try {
      while (!signal.aborted) {
        await Promise.race([this.tick(), broken])
        await Promise.race([sleep(STATUS_MS, undefined, { signal }).catch(() => {}), broken])
      }
      this.sendStatus(false)
    } finally {
      this.ended = true
    }
  }

  /** Starts streaming; a slot that its last reader has not let go of yet is tried again. */
  private async start(from: string): Promise<void> {
    const name = slotName(this.reader)
    const { rows } = await this.pool.query(
      `SELECT current_setting('server_version_num')::int >= 140000 AS messages`,
    )
    const messages = rows[0].messages === 't' ? `, messages 'true'` : ''
    const statement = `START_REPLICATION SLOT "${name}" LOGICAL ${from} (proto_version '1', publication_names ${literal(`"${name}"`)}${messages})`
    for (let tries = 0; ; tries++) {
      try {
        await new Promise<void>((resolve, reject) => {
          this.client.connection.once('replicationStart', resolve)
          this.client.query(statement).then(
            () => this.fail(new Error('Connection terminated: the source ended its stream')),
            error => (this.started ? this.fail(error) : reject(error)),
          )
        })
        this.started = true
        return
      } catch (error) {
        if ((error as { code?: string }).code !== '55006' || tries >= BUSY_TRIES) throw error
        await sleep(250)
      }
    }
  }

  private async tick(): Promise<void> {
    const { rows } = await this.pool.query(HEAD)
    const clock = Number(rows[0].now)
    this.head = { at: parseLsn(rows[0].at), clock }
    this.sink.heard(clock, rows[0].at)
    this.sendStatus(true)
  }

  private take(chunk: Buffer): void {
    if (this.ended) return
    if (this.waiting) return void this.waiting.push(Buffer.from(chunk))
    if (chunk[0] === 0x6b) this.keepalive(chunk)
    else if (chunk[0] === 0x77) {
      const message = chunk.subarray(25)
      const unknown = this.decoder.take(message)
      if (unknown) return this.learnAndGoOn(unknown, chunk)
      if (message[0] === 0x42) this.inTransaction = true
      else if (message[0] === 0x43) this.inTransaction = false
    }
    if (this.sink.full && !this.paused) this.pause()
  }

  private keepalive(message: Buffer): void {
    this.heardUpTo = message.readBigUInt64BE(1)
    this.sink.heard(timeAt(message, 9))
    if (message[17] === 1) this.sendStatus(false)
    const { head } = this
    if (head && !this.inTransaction && reaches(this.heardUpTo, head.at)) {
      this.sink.reached(printLsn(this.heardUpTo), head.clock)
      this.head = undefined
    }
  }

  private pause(): void {
    this.paused = true
    const { stream } = this.client.connection
    stream.pause()
    void this.sink.room().then(() => {
      this.paused = false
      if (!this.waiting) stream.resume()
    })
  }

  private learnAndGoOn(relation: SentRelation, chunk: Buffer): void {
    const { stream } = this.client.connection
    this.waiting = [Buffer.from(chunk)]
    stream.pause()
    this.learnTypes(relation.columns.map(({ typeOid, typeModifier }) => [typeOid, typeModifier]))
      .then(() => {
        const waiting = this.waiting!
        this.waiting = undefined
        // A later message may ask for types again; what is behind it goes on waiting.
        for (const one of waiting) this.take(one)
        if (!this.waiting && !this.paused) stream.resume()
      })
      .catch(error => this.fail(error))
  }

  private async learnPublishedTypes(): Promise<void> {
    const { rows } = await this.pool.query(
      `SELECT DISTINCT a.atttypid::text AS oid, a.atttypmod::text AS modifier
         FROM pg_catalog.pg_publication_rel r
         JOIN pg_catalog.pg_publication p ON p.oid = r.prpubid AND p.pubname = $1
         JOIN pg_catalog.pg_attribute a ON a.attrelid = r.prrelid AND a.attnum > 0 AND NOT a.attisdropped`,
      [slotName(this.reader)],
    )
    await this.learnTypes(rows.map(row => [Number(row.oid), Number(row.modifier)]))
  }

  private async learnTypes(types: [oid: number, modifier: number][]): Promise<void> {
    const { rows } = await this.pool.query(
      `SELECT w.oid::text, w.modifier::text, format_type(t.oid, w.modifier) AS native
         FROM json_to_recordset($1::json) AS w(oid oid, modifier int)
         LEFT JOIN pg_catalog.pg_type t ON t.oid = w.oid`,
      [JSON.stringify(types.map(([oid, modifier]) => ({ oid, modifier })))],
    )
    for (const { oid, modifier, native } of rows) {
      // A type that was dropped since has lost its name; the table's columns have changed then, too.
      this.types.set(`${oid} ${modifier}`, native ?? `type ${oid}`)
    }
  }

  /** Standby status update: written, flushed and applied up to what is durable here. */
  private sendStatus(answer: boolean): void {
    const message = Buffer.alloc(34)
    const durable = parseLsn(this.sink.durable())
    message[0] = 0x72
    for (const at of [1, 9, 17]) message.writeBigUInt64BE(durable, at)
    message.writeBigInt64BE(BigInt(Date.now() * 1000 - EPOCH_2000), 25)
    message[33] = answer ? 1 : 0
    this.client.connection.sendCopyFromChunk(message)
  }
}

const PAGE = 8192n

/** The end of the log as inserted may stand behind a page's header where nothing is yet. */
function reaches(sent: bigint, head: bigint): boolean {
  return sent >= head || (sent % PAGE === 0n && head - sent <= 40n)
}
