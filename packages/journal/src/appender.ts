/**
 * Writes what a log says into segments. Entries gather while a write is under way and then go out together (group
 * flush); what has been written and synced is durable. When the disk refuses, everything waits in memory, bounded by
 * `room`, and is tried again.
 */
import type { LoggedRelation } from '@tide/core/records/relation'
import { datasetId } from '@tide/core/records/dataset'
import { open, type FileHandle } from 'node:fs/promises'
import { refuseTooLarge } from './large-rows.ts'
import { EntryBuffer } from './entries.ts'
import { encodeFrame, type FrameSummary } from './frame.ts'
import { emptySegment, noteFrame, saveIndex, segmentFile, type Segment } from './segment.ts'

/** A frame is closed at the next end of a transaction after this; inside a longer one, wherever it is. */
const FRAME_BYTES = 1024 * 1024
const SEGMENT_BYTES = 64 * 1024 * 1024
/** As much as may wait for the disk. */
const WAITING_BYTES = 16 * 1024 * 1024
const RETRY_MS = 1_000

interface WaitingFrame {
  summary: FrameSummary
  bytes: Buffer
  /** Who wants to know when it is durable. */
  tell: (() => void)[]
}

export interface AppenderTrouble {
  message: string
  since: number
}

export class Appender {
  /** Set while the disk does not take what is written. */
  trouble: AppenderTrouble | undefined
  private readonly folder: string
  private readonly relations: Map<number, LoggedRelation>
  private readonly flushed: (frames: FrameSummary[], segment: Segment) => void
  private readonly segmentBytes: number
  private readonly isBefore: (a: string, b: string) => boolean
  private segment: Segment
  private file: FileHandle | undefined
  private written = 0

  private readonly buffer = new EntryBuffer()
  private readonly idOf = new Map<number, number>()
  private readonly ids = new Map<string, number>()
  /** Of the whole transactions in the buffer, and of the one under way. */
  private whole = noChanges()
  private part = noChanges()
  private wholeLength = 0
  private tellWhole: (() => void)[] = []
  private inTransaction = false
  private position: string
  private passing = false

  private waiting: WaitingFrame[] = []
  private waitingBytes = 0
  private writing: Promise<void> | undefined
  private closed = false
  private roomWanted: (() => void)[] = []

  constructor(
    folder: string,
    segment: Segment,
    relations: Map<number, LoggedRelation>,
    isBefore: (a: string, b: string) => boolean,
    flushed: (frames: FrameSummary[], segment: Segment) => void,
    segmentBytes = SEGMENT_BYTES,
  ) {
    this.folder = folder
    this.segment = segment
    this.relations = relations
    this.isBefore = isBefore
    this.flushed = flushed
    this.segmentBytes = segmentBytes
    this.position = segment.lastPosition
    this.written = segment.bytes
    for (const relation of relations.values()) this.ids.set(shapeOf(relation), relation.id)
    if (segment.bytes === 0) this.describeAll()
  }

  /** The log's own numbers for its tables may change. Ours stand for a table with just these columns, for ever. */
  relation(relation: LoggedRelation): void {
    const shape = shapeOf(relation)
    const known = this.ids.get(shape)
    const id = known ?? this.ids.size + 1
    this.idOf.set(relation.id, id)
    if (known !== undefined) return
    const ours = { ...relation, id }
    this.ids.set(shape, id)
    this.relations.set(id, ours)
    this.buffer.relation(ours)
  }

  /** `start`: where in the log it stands. One that is here already is passed over. */
  begin(start: string, at: number, id: string): void {
    this.inTransaction = true
    this.passing = this.isBefore(start, this.position)
    if (this.passing) return
    this.part = { counts: new Map(), firstAt: at, lastAt: at }
    this.buffer.begin(start, at, id)
  }

  insert(relation: number, after: Uint8Array): void {
    if (this.passing) return
    this.buffer.insert(this.count(relation, after), after)
    if (this.buffer.length >= FRAME_BYTES) this.cutInside()
  }

  update(relation: number, before: Uint8Array | null, after: Uint8Array): void {
    if (this.passing) return
    this.buffer.update(this.count(relation, after), before, after)
    if (this.buffer.length >= FRAME_BYTES) this.cutInside()
  }

  remove(relation: number, before: Uint8Array): void {
    if (this.passing) return
    this.buffer.remove(this.count(relation, before), before)
    if (this.buffer.length >= FRAME_BYTES) this.cutInside()
  }

  truncate(relation: number): void {
    if (this.passing) return
    this.buffer.truncate(this.count(relation))
  }

  /** `end`: the position behind it. */
  commit(end: string): void {
    this.inTransaction = false
    if (this.passing) return void (this.passing = false)
    this.buffer.commit(end)
    this.position = end
    this.wholeLength = this.buffer.length
    for (const [relation, count] of this.part.counts) {
      this.whole.counts.set(relation, (this.whole.counts.get(relation) ?? 0) + count)
    }
    this.whole.firstAt ||= this.part.firstAt
    this.whole.lastAt = Math.max(this.whole.lastAt, this.part.lastAt)
    this.part = noChanges()
    if (this.wholeLength >= FRAME_BYTES) this.cutWhole()
    this.flushSoon()
  }

  /** Keeps a position that holds no changes, so that reading can begin from there. */
  mark(position: string): void {
    if (this.inTransaction || position === this.position) return
    this.position = position
    this.cutWhole(true)
    this.flushSoon()
  }

  /** Calls back when all whole transactions so far are durable; at once when they are. */
  whenDurable(tell: () => void): void {
    const last = this.wholeLength > 0 ? this.tellWhole : this.waiting.at(-1)?.tell
    if (last) last.push(tell)
    else tell()
  }

  get full(): boolean {
    return this.waitingBytes > WAITING_BYTES && !this.closed
  }

  async room(): Promise<void> {
    while (this.full) {
      await new Promise<void>(resolve => this.roomWanted.push(resolve))
    }
  }

  /** Forgets a transaction that was cut off, so that it can come again from its beginning. */
  async abandon(): Promise<void> {
    this.flushSoon()
    while (this.writing) await this.writing
    if (this.closed) return
    this.buffer.take(this.buffer.length)
    this.part = noChanges()
    this.inTransaction = false
    this.passing = false
    if (this.written > this.segment.bytes) {
      await this.file?.truncate(this.segment.bytes)
      this.written = this.segment.bytes
    }
    // Tables that were first described within it are described again.
    for (const relation of this.relations.values()) this.buffer.relation(relation)
  }

  /** Resolves when all whole transactions so far are durable, or the disk refuses. */
  async flush(): Promise<void> {
    this.flushSoon()
    while (this.writing && !this.trouble) await this.writing
  }

  async close(): Promise<void> {
    await this.flush()
    this.closed = true
    this.wakeRoom()
    await this.writing
    await this.file?.close()
  }

  /** Our number of the relation, with one more change of it. */
  private count(relation: number, row?: Uint8Array): number {
    const id = this.idOf.get(relation)
    if (id === undefined) throw new Error(`relation ${relation} was not described`)
    if (row) refuseTooLarge(this.relations.get(id), row)
    this.part.counts.set(id, (this.part.counts.get(id) ?? 0) + 1)
    return id
  }

  /** Closes a frame within a transaction; whole ones before it get a frame of their own and need not wait. */
  private cutInside(): void {
    this.cutWhole()
    this.push(this.part, this.buffer.take(this.buffer.length), false, [])
    this.part = { ...this.part, counts: new Map() }
    this.flushSoon()
  }

  private cutWhole(evenEmpty = false): void {
    // Descriptions of tables stand outside of transactions, or at the beginning of one that is under way.
    if (!this.inTransaction) this.wholeLength = this.buffer.length
    if (this.wholeLength === 0 && !evenEmpty) return
    this.push(this.whole, this.buffer.take(this.wholeLength), true, this.tellWhole)
    this.whole = noChanges()
    this.wholeLength = 0
    this.tellWhole = []
  }

  private push(
    { counts, firstAt, lastAt }: Changes,
    entries: Buffer,
    whole: boolean,
    tell: (() => void)[],
  ): void {
    const summary = { whole, firstAt, lastAt, counts, position: this.position }
    const bytes = encodeFrame(summary, entries)
    this.waiting.push({ summary, bytes, tell })
    this.waitingBytes += bytes.length
  }

  private flushSoon(): void {
    if (this.writing || this.closed) return
    this.writing = this.writeOut().finally(() => (this.writing = undefined))
  }

  private async writeOut(): Promise<void> {
    // What arrives in the same turn goes out together.
    await new Promise(resolve => setImmediate(resolve))
    while (!this.closed) {
      if (this.wholeLength > 0) this.cutWhole()
      if (this.waiting.length === 0) return
      try {
        await this.writeWaiting()
        this.trouble = undefined
      } catch (error) {
        this.trouble ??= { message: (error as Error).message, since: Date.now() }
        await this.file?.close().catch(() => {})
        this.file = undefined
        await new Promise(resolve => setTimeout(resolve, RETRY_MS))
      }
    }
  }

  /** Writes from where the last durable frame ends, so that a refused write is written over. */
  private async writeWaiting(): Promise<void> {
    if (!this.file) {
      this.file = await openSegment(this.folder, this.segment.number)
    }
    const frames = [...this.waiting]
    let end = this.written
    for (const { bytes } of frames) {
      let from = 0
      while (from < bytes.length) {
        const { bytesWritten } = await this.file.write(bytes, from, bytes.length - from, end + from)
        from += bytesWritten
      }
      end += bytes.length
    }
    await this.file.datasync()
    this.waiting.splice(0, frames.length)
    for (const { summary, bytes } of frames) {
      this.written += bytes.length
      this.waitingBytes -= bytes.length
      noteFrame(this.segment, summary, this.written)
    }
    this.flushed(
      frames.map(({ summary }) => summary),
      this.segment,
    )
    for (const { tell } of frames) for (const one of tell) one()
    this.wakeRoom()
    const endsWhole = frames.at(-1)!.summary.whole
    if (endsWhole && this.written >= this.segmentBytes) await this.roll()
  }

  /** Begins the next segment, which describes all tables anew, so that it can be read on its own. */
  private async roll(): Promise<void> {
    await saveIndex(this.folder, this.segment)
    await this.file!.close()
    this.file = undefined
    this.segment = emptySegment(this.segment.number + 1, this.segment.lastPosition, this.segment.lastAt)
    this.written = 0
    this.describeAll()
  }

  /** Puts the frame with which a segment begins before all that waits. */
  private describeAll(): void {
    if (this.relations.size === 0) return
    const tables = new EntryBuffer()
    for (const relation of this.relations.values()) tables.relation(relation)
    const summary = { ...noChanges(), whole: true, position: this.segment.lastPosition }
    const bytes = encodeFrame(summary, tables.take(tables.length))
    this.waiting.unshift({ summary, bytes, tell: [] })
    this.waitingBytes += bytes.length
  }

  private wakeRoom(): void {
    for (const wake of this.roomWanted.splice(0)) wake()
  }
}

/** Opens for writing anywhere; makes the file, and its entry in the folder, durable when it is new. */
async function openSegment(folder: string, number: number): Promise<FileHandle> {
  const path = segmentFile(folder, number)
  await (await open(path, 'a')).close()
  const entry = await open(folder, 'r')
  await entry.sync()
  await entry.close()
  return open(path, 'r+')
}

function shapeOf({ dataset, columns, identity }: LoggedRelation): string {
  return `${datasetId(dataset)} ${JSON.stringify([columns, identity])}`
}

interface Changes {
  counts: Map<number, number>
  firstAt: number
  lastAt: number
}

const noChanges = (): Changes => ({ counts: new Map(), firstAt: 0, lastAt: 0 })
