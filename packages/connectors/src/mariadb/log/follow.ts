/** Reads the binary log into a sink, as a replica would. */
import { Failure } from '@tide/core/failure'
import { compareBinlog, parseBinlog, printBinlog } from '@tide/core/position/binlog'
import type { Position } from '@tide/core/position/position'
import type { DatasetName } from '@tide/core/records/dataset'
import { createHash } from 'node:crypto'
import { setTimeout as sleep } from 'node:timers/promises'
import type { LogSink } from '../../contract/source.ts'
import { tableFields } from '../catalogue.ts'
import { withSession, type Session } from '../client.ts'
import type { MariadbConfig } from '../config.ts'
import { literal } from '../sql.ts'
import { readCharsets, usedCharsets } from './charsets.ts'
import { BinlogDecoder, type Replay, type UnknownTable } from './decoder.ts'
import { openDump, type Dump } from './dump.ts'
import { findPrepared } from './prepared.ts'

export const LOG_KIND = 'binlog'

const HEAD_MS = 1_000

/** Where the log ends, with the source's clock in microseconds since 1970. */
export async function logEnd(session: Session): Promise<{ position: Position; at: number }> {
  const [clock] = await session.arrays(`SELECT CAST(unix_timestamp(now(6)) * 1000000 AS UNSIGNED)`)
  const [end] = await session.arrays('SHOW MASTER STATUS')
  if (!end) throw noLog()
  return { position: await positionAt(session, end[0]!, Number(end[1])), at: Number(clock![0]) }
}

export function noLog(): Failure {
  return new Failure(
    'structural',
    'The source keeps no binary log.',
    'Start the server with log_bin, binlog_format = ROW and binlog_row_metadata = FULL.',
  )
}

/** A place of the log with the transaction ids in force there. */
export async function positionAt(session: Session, file: string, offset: number): Promise<Position> {
  const [ids] = await session.arrays(`SELECT binlog_gtid_pos(${literal(file)}, ${offset})`)
  const at = printBinlog({ file, offset, gtid: ids?.[0] ?? '', prepared: [] })
  return { kind: LOG_KIND, incarnation: await incarnation(session), at }
}

async function incarnation(session: Session): Promise<string> {
  const [row] = await session.arrays('SELECT @@server_uid, @@server_id')
  return row!.join('/')
}

/** A source that is not the one the position is from, or does not hold what follows it, is never followed. */
export async function refuseAnotherHistory(session: Session, from: Position): Promise<void> {
  const remedy = 'Start the pipelines on it again: their tables are copied anew.'
  const here = await incarnation(session)
  if (here !== from.incarnation) {
    throw new Failure(
      'structural',
      `Another server answers under this address: it is ${here}, ${from.incarnation} was followed.`,
      remedy,
    )
  }
  const { file, offset, gtid, prepared } = parseBinlog(from.at)
  const idsAt = async (place: { file: string; offset: number }) =>
    (await session.arrays(`SELECT binlog_gtid_pos(${literal(place.file)}, ${place.offset})`))[0]?.[0] ?? null
  const ids = await idsAt({ file, offset })
  const begins = await Promise.all(prepared.map(idsAt))
  if (ids === null || begins.includes(null)) {
    throw new Failure(
      'structural',
      `${from.at} is no longer in the source’s log: it was purged, or begun anew.`,
      `${remedy} To keep the log longer, raise binlog_expire_logs_seconds.`,
    )
  }
  const known = ids.split(',')
  const other = gtid.split(',').find(id => id !== '' && !known.includes(id))
  if (other !== undefined) {
    throw new Failure(
      'structural',
      `At ${file}:${offset} the source’s log is another one than was followed: ${ids || 'nothing'} where ${other} stood. It was restored, or its log begun anew.`,
      remedy,
    )
  }
}

export async function followBinlog(
  config: MariadbConfig,
  reader: string,
  from: Position,
  tables: readonly DatasetName[],
  sink: LogSink,
  signal: AbortSignal,
): Promise<void> {
  await withSession(config, async session => {
    await refuseAnotherHistory(session, from)
    const charsets = await readCharsets(session, await usedCharsets(session, tables))
    const decoder = new BinlogDecoder(sink, tables, charsets, parseBinlog(from.at))
    await new Follow(config, session, decoder, sink).run(reader, from, signal)
  })
}

class Follow {
  private readonly config: MariadbConfig
  private readonly session: Session
  private readonly decoder: BinlogDecoder
  private readonly sink: LogSink
  private dump: Dump | undefined
  /** Set while a table's columns are asked for; what comes meanwhile waits. */
  private waiting: Buffer[] | undefined
  private paused = false
  private ended = false
  private fail: (error: unknown) => void = () => {}
  /** Called when a decoder that replays one transaction has given it. */
  private done: (() => void) | undefined
  private reader = ''
  private head: { at: string; clock: number } | undefined

  constructor(config: MariadbConfig, session: Session, decoder: BinlogDecoder, sink: LogSink) {
    this.config = config
    this.session = session
    this.decoder = decoder
    this.sink = sink
  }

  async run(reader: string, from: Position, signal: AbortSignal): Promise<void> {
    const broken = new Promise<never>((_, reject) => (this.fail = reject))
    broken.catch(() => {}) // it is awaited below
    this.reader = reader
    const { file, offset } = parseBinlog(from.at)
    this.dump = await openDump(this.config, { file, offset, serverId: replicaId(reader) }, event =>
      this.take(event),
    )
    try {
      while (!signal.aborted) {
        const { position, at } = await Promise.race([logEnd(this.session), broken, this.dump.ended])
        this.head = { at: position.at, clock: at }
        this.sink.heard(at, position.at)
        this.tellReached()
        const wait = sleep(HEAD_MS, undefined, { signal }).catch(() => {})
        await Promise.race([wait, broken, this.dump.ended])
      }
    } finally {
      this.ended = true
      this.dump.close()
    }
  }

  private take(event: Buffer): void {
    if (this.ended) return
    if (this.waiting) return void this.waiting.push(Buffer.from(event))
    const first = this.decoder.take(event)
    if (first) return this.goOnAfter(first, event)
    if (this.decoder.replayed) {
      this.ended = true
      return this.done?.()
    }
    this.tellReached()
    if (this.sink.full && !this.paused) this.pause()
  }

  /** Where the log ended when it was last asked has been reached. */
  private tellReached(): void {
    const { head } = this
    const here = this.decoder.position
    if (!head || !here || compareBinlog(here.printed, head.at) < 0) return
    this.sink.reached(here.printed, head.clock)
    this.head = undefined
  }

  private pause(): void {
    this.paused = true
    this.dump!.pause()
    void this.sink.room().then(() => {
      this.paused = false
      if (!this.waiting && !this.ended) this.dump!.resume()
    })
  }

  /** What comes waits until what the event needs first is done; then it is taken again. */
  private goOnAfter(first: UnknownTable | Replay, event: Buffer): void {
    this.waiting = [Buffer.from(event)]
    this.dump?.pause()
    const done =
      'table' in first
        ? tableFields(this.session, first.table).then(fields => this.decoder.know(first.table, fields))
        : this.replay(first).then(() => this.decoder.wasReplayed(first))
    done
      .then(() => {
        const waiting = this.waiting!
        this.waiting = undefined
        // A later event may ask for something again; what is behind it goes on waiting.
        for (const one of waiting) this.take(one)
        if (!this.waiting && !this.paused) this.dump?.resume()
      })
      .catch(error => this.fail(error))
  }

  /** Reads a prepared transaction where it stands in the log, by a connection of its own. */
  private async replay(replay: Replay): Promise<void> {
    const serverId = replicaId(`${this.reader} ${replay.xid}`)
    const { xid, committed } = replay
    replay.prepared ??= await findPrepared(this.config, this.session, serverId, xid, committed)
    const { file, offset } = replay.prepared
    const decoder = this.decoder.replayer(replay)
    let follow: Follow | undefined
    try {
      await new Promise<void>((resolve, reject) => {
        follow = new Follow(this.config, this.session, decoder, this.sink)
        follow.fail = reject
        follow.done = resolve
        openDump(this.config, { file, offset, serverId }, event => follow!.take(event)).then(dump => {
          follow!.dump = dump
          dump.ended.catch(reject)
        }, reject)
      })
    } finally {
      follow!.ended = true
      follow!.dump?.close()
    }
  }
}

/** A number that no other replica is likely to have: from the reader's name, in the upper half. */
function replicaId(reader: string): number {
  return (0x80000000 | createHash('sha256').update(reader).digest().readUInt32BE(0)) >>> 0
}
