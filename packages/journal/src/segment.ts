/** Segments: files of frames, numbered in order. What is known of one without reading all of it again. */
import type { LoggedRelation } from '@tide/core/records/relation'
import { open, readFile, writeFile, type FileHandle } from 'node:fs/promises'
import { join } from 'node:path'
import { EntryCursor } from './entries.ts'
import { decodeFrame, FRAME_HEAD, LONGEST_FRAME, type Frame } from './frame.ts'

/** A place to begin reading at: the frame at `offset` follows `position`. */
export interface IndexEntry {
  offset: number
  position: string
  /** The newest commit before it, microseconds since 1970; 0: none. */
  at: number
}

export interface Segment {
  number: number
  /** Bytes that hold whole transactions. */
  bytes: number
  index: IndexEntry[]
  firstAt: number
  lastAt: number
  lastPosition: string
}

/** Distance between index entries. */
const INDEX_EVERY = 16 * 1024
const READ_AT_ONCE = 1024 * 1024

export function segmentFile(folder: string, number: number): string {
  return join(folder, `${String(number).padStart(10, '0')}.journal`)
}

export function indexFile(folder: string, number: number): string {
  return join(folder, `${String(number).padStart(10, '0')}.index`)
}

export function emptySegment(number: number, position: string, at: number): Segment {
  const index = [{ offset: 0, position, at }]
  return { number, bytes: 0, index, firstAt: 0, lastAt: 0, lastPosition: position }
}

/** Takes note of a frame that ends at `end`. Frames that end nothing are counted by the one that does. */
export function noteFrame(segment: Segment, frame: Omit<Frame, 'entries'>, end: number): void {
  if (frame.firstAt > 0 && segment.firstAt === 0) segment.firstAt = frame.firstAt
  if (!frame.whole) return
  segment.bytes = end
  segment.lastPosition = frame.position
  // Commit times in a log are not quite in order; a search by time needs an order.
  segment.lastAt = Math.max(segment.lastAt, frame.lastAt)
  if (end - segment.index.at(-1)!.offset >= INDEX_EVERY) {
    segment.index.push({ offset: end, position: frame.position, at: segment.lastAt })
  }
}

/** A sealed segment's facts are kept beside it. */
export async function saveIndex(folder: string, segment: Segment): Promise<void> {
  await writeFile(indexFile(folder, segment.number), JSON.stringify(segment))
}

export async function loadIndex(folder: string, number: number): Promise<Segment | undefined> {
  try {
    return JSON.parse(await readFile(indexFile(folder, number), 'utf8'))
  } catch {
    return undefined // it is made again from the segment itself
  }
}

/**
 * Reads all frames and finds where the last whole transaction ends; what is behind that is torn. `relations` gets those that are described before
 * it: a description that is cut off with the tail is none.
 */
export async function scanSegment(
  folder: string,
  number: number,
  { position, at }: Pick<IndexEntry, 'position' | 'at'>,
  relations: Map<number, LoggedRelation>,
): Promise<Segment> {
  const segment = emptySegment(number, position, at)
  const file = await open(segmentFile(folder, number), 'r')
  try {
    const frames = new FrameReader(file, 0)
    const { size } = await file.stat()
    let described: LoggedRelation[] = []
    for (;;) {
      const frame = await frames.next(size)
      if (!frame) return segment
      described.push(...relationsIn(frame))
      noteFrame(segment, frame, frames.offset)
      if (!frame.whole) continue
      for (const relation of described) relations.set(relation.id, relation)
      described = []
    }
  } finally {
    await file.close()
  }
}

function relationsIn({ entries }: Frame): LoggedRelation[] {
  const cursor = new EntryCursor(entries)
  const described: LoggedRelation[] = []
  for (let kind = cursor.next(); kind; kind = cursor.next())
    if (kind === 'relation') described.push(cursor.described)
  return described
}

/** Reads frames one after another from a file that may grow. */
export class FrameReader {
  /** Where the next frame begins. */
  offset: number
  private readonly file: FileHandle
  private buffer = Buffer.alloc(0)
  private bufferStart = 0

  constructor(file: FileHandle, offset: number) {
    this.file = file
    this.offset = offset
  }

  /** The next frame that lies before `end`; `undefined` when there is none, or it is damaged. */
  async next(end: number): Promise<Frame | undefined> {
    if (this.offset + FRAME_HEAD > end) return undefined
    const head = await this.bytes(this.offset, FRAME_HEAD, end)
    const length = head.readUInt32BE(0)
    const checksum = head.readUInt32BE(4)
    if (length > LONGEST_FRAME || this.offset + FRAME_HEAD + length > end) return undefined
    const frame = decodeFrame(await this.bytes(this.offset + FRAME_HEAD, length, end), checksum)
    if (frame) this.offset += FRAME_HEAD + length
    return frame
  }

  private async bytes(start: number, length: number, end: number): Promise<Buffer> {
    const from = start - this.bufferStart
    if (from >= 0 && from + length <= this.buffer.length) return this.buffer.subarray(from, from + length)
    const size = Math.max(length, Math.min(READ_AT_ONCE, end - start))
    const buffer = Buffer.allocUnsafe(size)
    let filled = 0
    while (filled < size) {
      const { bytesRead } = await this.file.read(buffer, filled, size - filled, start + filled)
      if (bytesRead === 0) break
      filled += bytesRead
    }
    this.buffer = buffer.subarray(0, filled)
    this.bufferStart = start
    return this.buffer.subarray(0, length)
  }
}
