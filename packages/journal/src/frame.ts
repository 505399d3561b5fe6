/**
 * A frame is what is written and checked as one: some entries, and before them what one must know of them without
 * reading them. All numbers are big-endian.
 *
 *   length of the body (32 bits) · CRC-32 of the body (32 bits) · body:
 *     flags (8) · first and last commit, microseconds since 1970 (2 × float 64; 0: none)
 *     · tables changed (16), each: relation (32), changes (32)
 *     · length (16) and text of the position after the last whole transaction · entries
 */
import { crc32 } from 'node:zlib'

export const FRAME_HEAD = 8
/** No frame is longer; a length beyond it is damage. */
export const LONGEST_FRAME = 2 ** 30

export interface FrameSummary {
  /** Nothing in it is left open: it ends with a whole transaction. */
  whole: boolean
  firstAt: number
  lastAt: number
  /** Changes by relation. */
  counts: ReadonlyMap<number, number>
  position: string
}

export interface Frame extends FrameSummary {
  entries: Buffer
}

export function encodeFrame(summary: FrameSummary, entries: Buffer): Buffer {
  const position = Buffer.from(summary.position)
  const size = 1 + 16 + 2 + summary.counts.size * 8 + 2 + position.length + entries.length
  const frame = Buffer.allocUnsafe(FRAME_HEAD + size)
  frame.writeUInt32BE(size, 0)
  let at = FRAME_HEAD
  at = frame.writeUInt8(summary.whole ? 1 : 0, at)
  at = frame.writeDoubleBE(summary.firstAt, at)
  at = frame.writeDoubleBE(summary.lastAt, at)
  at = frame.writeUInt16BE(summary.counts.size, at)
  for (const [relation, count] of summary.counts) {
    at = frame.writeUInt32BE(relation, at)
    at = frame.writeUInt32BE(count, at)
  }
  at = frame.writeUInt16BE(position.length, at)
  at += position.copy(frame, at)
  entries.copy(frame, at)
  frame.writeUInt32BE(crc32(frame.subarray(FRAME_HEAD)), 4)
  return frame
}

/** Reads a frame's body; `undefined` when it is damaged. */
export function decodeFrame(body: Buffer, checksum: number): Frame | undefined {
  if (crc32(body) !== checksum) return undefined
  let at = 0
  const whole = (body.readUInt8(at) & 1) === 1
  const firstAt = body.readDoubleBE((at += 1))
  const lastAt = body.readDoubleBE((at += 8))
  const counts = new Map<number, number>()
  const tables = body.readUInt16BE((at += 8))
  at += 2
  for (let i = 0; i < tables; i++, at += 8) counts.set(body.readUInt32BE(at), body.readUInt32BE(at + 4))
  const length = body.readUInt16BE(at)
  const position = body.toString('utf8', at + 2, at + 2 + length)
  return { whole, firstAt, lastAt, counts, position, entries: body.subarray(at + 2 + length) }
}
