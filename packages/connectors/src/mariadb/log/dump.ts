/** A connection over which the server sends its binary log, as to a replica. */
import type { Connection } from 'mysql2'
import type { Socket } from 'node:net'
import { crc32 } from 'node:zlib'
import { connect } from '../client.ts'
import type { MariadbConfig } from '../config.ts'

/** How often the server says at least that it is there, in nanoseconds. */
const HEARTBEAT_NS = 2_000_000_000

interface Packet {
  buffer: Buffer
  offset: number
  end: number
  isError(): boolean
  asError(encoding: string): Error
  isEOF(): boolean
}

/**
 * The part of the driver beneath its typed face. Its own way of asking for a log neither sends the file's name nor
 * knows more than a few events, so the command and the reading of what comes are ours.
 */
interface Wire {
  addCommand(command: { execute(packet: Packet | undefined, wire: Wire): boolean }): void
  write(bytes: Buffer): void
  _resetSequenceId(): void
  _bumpSequenceId(packets: number): void
  stream: Pick<Socket, 'pause' | 'resume' | 'resetAndDestroy'> & {
    on(event: 'close', listener: () => void): void
  }
}

const COM_BINLOG_DUMP = 0x12
const FORMAT_DESCRIPTION = 15
const CHECKSUM = 4

export interface DumpFrom {
  file: string
  offset: number
  /** Not that of the server nor of any other replica. */
  serverId: number
}

export interface Dump {
  pause(): void
  resume(): void
  close(): void
  /** Rejects when the server ends it, or the connection is cut. */
  ended: Promise<never>
}

/** Hands every event on as it comes; the bytes are the callee's only until it returns. */
export async function openDump(
  config: MariadbConfig,
  from: DumpFrom,
  take: (event: Buffer) => void,
): Promise<Dump> {
  const connection = await connect(config)
  let fail: (error: Error) => void
  const ended = new Promise<never>((_, reject) => (fail = reject))
  ended.catch(() => {}) // whoever reads awaits it
  connection.on('error', (error: Error) => fail(error))
  let checked: boolean
  try {
    // Global transaction ids and checksums come only to those who say that they know them.
    await run(
      connection,
      `SET @mariadb_slave_capability = 4, @master_binlog_checksum = @@global.binlog_checksum`,
    )
    checked = (await ask(connection, 'SELECT @@global.binlog_checksum')) !== 'NONE'
    await run(connection, `SET @master_heartbeat_period = ${HEARTBEAT_NS}`)
  } catch (error) {
    connection.destroy()
    throw error
  }
  const wire = connection as unknown as Wire
  wire.stream.on('close', () => fail(new Error('ECONNRESET: the log’s connection was closed')))
  wire.addCommand({
    execute(packet) {
      if (!packet) {
        wire._resetSequenceId()
        wire.write(dumpRequest(from))
        wire._bumpSequenceId(1)
      } else if (packet.isError()) fail(packet.asError('utf8'))
      else if (packet.isEOF()) fail(new Error('ECONNRESET: the server ended its log'))
      else {
        try {
          // Behind the packet's header and a byte that says that all is well.
          const event = packet.buffer.subarray(packet.offset + 1, packet.end)
          // Each file says at its beginning whether its events end with a checksum.
          if (event[4] === FORMAT_DESCRIPTION) checked = event[event.length - 1 - CHECKSUM] !== 0
          take(checked ? withoutChecksum(event) : event)
        } catch (error) {
          fail(error as Error)
        }
      }
      return false
    },
  })
  return {
    ended,
    pause: () => wire.stream.pause(),
    resume: () => wire.stream.resume(),
    // A server that only hears that nothing more will come from us goes on waiting for its log, and its connections run out.
    close: () => {
      wire.stream.resetAndDestroy()
      connection.destroy()
    },
  }
}

/** https://mariadb.com/kb/en/com_binlog_dump/ */
function dumpRequest({ file, offset, serverId }: DumpFrom): Buffer {
  const name = Buffer.from(file)
  const request = Buffer.alloc(15 + name.length)
  request.writeUIntLE(11 + name.length, 0, 3) // of what follows the header; its sequence number is 0
  request[4] = COM_BINLOG_DUMP
  request.writeUInt32LE(offset, 5)
  request.writeUInt16LE(0, 9) // wait at the end for more
  request.writeUInt32LE(serverId, 11)
  name.copy(request, 15)
  return request
}

/** The event without its CRC-32, which must be right. */
function withoutChecksum(event: Buffer): Buffer {
  const body = event.subarray(0, event.length - CHECKSUM)
  if (crc32(body) === event.readUInt32LE(body.length)) return body
  throw new Error('ECONNRESET: an event of the log arrived damaged')
}

function ask(connection: Connection, sql: string): Promise<string> {
  return new Promise((resolve, reject) =>
    connection.query({ sql, rowsAsArray: true }, (error, rows) =>
      error ? reject(error) : resolve(String((rows as unknown[][])[0]![0])),
    ),
  )
}

function run(connection: Connection, sql: string): Promise<void> {
  return new Promise((resolve, reject) => connection.query(sql, error => (error ? reject(error) : resolve())))
}
