/**
 * The durable, replayable copy of one source's changes. One writer, any number of readers. What readers still need
 * is kept; beside that, what is younger than the retention's age, up to its size.
 */
import { Failure } from '@tide/core/failure'
import { Turns } from '@tide/core/pace/turns'
import { compareWithin } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import { datasetId, datasetOf, type DatasetName } from '@tide/core/records/dataset'
import type { LoggedRelation } from '@tide/core/records/relation'
import { EventEmitter } from 'node:events'
import { mkdir, open, readdir, readFile, rename, rm, stat, truncate, writeFile } from 'node:fs/promises'
import { join } from 'node:path'
import { Appender } from './appender.ts'
import type { FrameSummary } from './frame.ts'
import {
  emptySegment,
  indexFile,
  loadIndex,
  scanSegment,
  segmentFile,
  type IndexEntry,
  type Segment,
} from './segment.ts'

/** In microseconds, as commit times are. */
const HOUR = 3_600_000_000
const SHORTEST_SPAN = 60_000_000

/** What is remembered beside the segments. */
interface Register {
  version: 1
  kind: string
  incarnation: string
  /** Where it began; the start of its first segment, unless that has been let go. */
  begun: string
  /** From which position each table's changes are in the journal, by `datasetId`. */
  covered: Record<string, string>
  /** Positions that were given out and not passed yet; absent in what earlier versions have written. */
  stops?: string[]
  /** Up to where each follower needs nothing any more. */
  followers: Record<string, string>
  /** Followers that had no journal before, and have yet to go on from where this one begins. */
  adopted?: string[]
}

interface Beginning {
  segmentBytes?: number
  /** Followers that stand somewhere before there was a journal; what they need of these tables is in it from the start on. */
  adopted?: readonly { id: string; tables: readonly DatasetName[] }[]
}

export interface Retention {
  /** Hours that changes are kept though nobody needs them. */
  hours: number
  /** Bytes of them. */
  bytes: number
  /** Beyond this many bytes even what is needed goes, and those who need it stop; 0: never. */
  hardBytes: number
}

export interface JournalFacts {
  kind: string
  bytes: number
  segments: number
  start: { position: string; at: number }
  end: { position: string; at: number }
  followers: { id: string; position: string; bytesBehind: number }[]
  trouble: { message: string; since: number } | null
  /** How fast it grew over the last hour of its transactions, or as long as it holds; null where that is too short to say. */
  bytesPerHour: number | null
}

export class Journal {
  readonly folder: string
  /** By our own numbers; a table whose columns have changed has more than one. */
  readonly relations: Map<number, LoggedRelation>
  /** Oldest first; the last one is written to. */
  readonly segments: Segment[]
  readonly appender: Appender
  private readonly register: Register
  private readonly saves = new Turns()
  private readonly events = new EventEmitter<{ flushed: [FrameSummary[]] }>().setMaxListeners(0)

  /** Frames of a transaction that has not ended. */
  private readonly unended: FrameSummary[] = []

  private constructor(
    folder: string,
    register: Register,
    segments: Segment[],
    relations: Map<number, LoggedRelation>,
    segmentBytes?: number,
  ) {
    this.folder = folder
    this.register = register
    this.segments = segments
    this.relations = relations
    this.appender = new Appender(
      folder,
      segments.at(-1)!,
      relations,
      (a, b) => compareWithin(register.kind, a, b) === 'before',
      (frames, segment) => {
        if (segment !== this.segments.at(-1)) this.segments.push(segment)
        this.unended.push(...frames)
        if (frames.some(({ whole }) => whole)) {
          const end = this.unended.findLastIndex(({ whole }) => whole) + 1
          this.events.emit('flushed', this.unended.splice(0, end))
        }
      },
      segmentBytes,
    )
  }

  /** Begins a journal from the position on. What was in the folder goes. */
  static async begin(
    folder: string,
    from: Position,
    { segmentBytes, adopted = [] }: Beginning = {},
  ): Promise<Journal> {
    await rm(folder, { recursive: true, force: true })
    await mkdir(folder, { recursive: true, mode: 0o700 })
    const { kind, incarnation, at } = from
    const journal = new Journal(
      folder,
      {
        version: 1,
        kind,
        incarnation,
        begun: at,
        covered: Object.fromEntries(
          adopted.flatMap(({ tables }) => tables.map(table => [datasetId(table), at])),
        ),
        followers: Object.fromEntries(adopted.map(({ id }) => [id, at])),
        adopted: adopted.map(({ id }) => id),
      },
      [emptySegment(1, at, 0)],
      new Map(),
      segmentBytes,
    )
    await journal.save()
    return journal
  }

  /** Opens the journal in the folder, cutting off a torn tail; `undefined` when there is none. */
  static async open(folder: string, segmentBytes?: number): Promise<Journal | undefined> {
    let register: Register
    try {
      register = JSON.parse(await readFile(join(folder, 'journal.json'), 'utf8'))
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return undefined
      throw error
    }
    const numbers = (await readdir(folder))
      .flatMap(name => /^(\d+)\.journal$/.exec(name)?.[1] ?? [])
      .map(Number)
      .sort((a, b) => a - b)
    const relations = new Map<number, LoggedRelation>()
    const segments: Segment[] = []
    for (const [i, number] of numbers.entries()) {
      const before = segments.at(-1)
      const sealed = i < numbers.length - 1
      const known = sealed ? await loadIndex(folder, number) : undefined
      if (known && segments.length === 0 && known.bytes > 0 && (await isEmpty(folder, number))) {
        register.begun = known.lastPosition // a trim that was cut off
        await removeSegment(folder, number)
        continue
      }
      const beginning = { position: before?.lastPosition ?? register.begun, at: before?.lastAt ?? 0 }
      segments.push(known ?? (await scanSegment(folder, number, beginning, relations)))
    }
    const last = segments.at(-1)
    // A segment describes all tables as it begins. Where the last one was cut off before that, the one before it knows them.
    const describing = segments.findLast(({ bytes }) => bytes > 0)
    if (describing && describing !== last) {
      const [beginning] = describing.index as [IndexEntry]
      await scanSegment(folder, describing.number, beginning, relations)
    }
    if (last) await truncate(segmentFile(folder, last.number), last.bytes)
    else segments.push(emptySegment(1, register.begun, 0))
    return new Journal(folder, register, segments, relations, segmentBytes)
  }

  get kind(): string {
    return this.register.kind
  }

  /** The position behind the last durable transaction. */
  get end(): Position {
    return this.position(this.segments.at(-1)!.lastPosition)
  }

  /** When the newest durable transaction was committed, in microseconds since 1970; 0 when there is none. */
  get endsAt(): number {
    return this.segments.at(-1)!.lastAt
  }

  /** The earliest position that can be read from. */
  get start(): Position {
    return this.position(this.segments[0]!.index[0]!.position)
  }

  position(at: string): Position {
    return { kind: this.register.kind, incarnation: this.register.incarnation, at }
  }

  /** How `a` stands to `b`; both are positions of this journal. */
  isAfter(a: string, b: string): boolean {
    return compareWithin(this.register.kind, a, b) === 'after'
  }

  /** Changes of these tables are in the journal from the position on, which is given out to somebody. */
  async cover(tables: readonly DatasetName[], from: Position): Promise<void> {
    for (const table of tables) this.register.covered[datasetId(table)] = from.at
    this.register.stops = [...this.stops.filter(stop => stop !== from.at), from.at]
    await this.save()
  }

  /** Positions that were given out and that reading has not come to yet. */
  get stops(): string[] {
    const end = this.end.at
    return (this.register.stops ?? []).filter(stop => this.isAfter(stop, end))
  }

  isAdopted(follower: string): boolean {
    return this.register.adopted?.includes(follower) ?? false
  }

  /** It has gone on from where the journal begins. */
  async settled(follower: string): Promise<void> {
    this.register.adopted = this.register.adopted?.filter(one => one !== follower) ?? []
    await this.save()
  }

  /** From where on the table's changes are in the journal; undefined: not at all. */
  coveredFrom(table: DatasetName): Position | undefined {
    const at = this.register.covered[datasetId(table)]
    return at === undefined ? undefined : this.position(at)
  }

  get coveredTables(): DatasetName[] {
    return Object.keys(this.register.covered).map(datasetOf)
  }

  /** Fails when what follows the position, or a table's own later one, is not, or no longer, all there. */
  refuseGap(tables: readonly { dataset: DatasetName; since?: Position | null }[], from: Position): void {
    const remedy = 'Start again: the tables are copied anew.'
    if (from.kind !== this.register.kind || from.incarnation !== this.register.incarnation) {
      throw new Failure(
        'structural',
        'The journal was begun anew on another incarnation of the source; the position of this pipeline is of the one before.',
        remedy,
      )
    }
    const missing = tables.find(({ dataset, since }) => {
      const covered = this.register.covered[datasetId(dataset)]
      return covered === undefined || this.isAfter(covered, since?.at ?? from.at)
    })
    if (missing || this.isAfter(this.start.at, from.at)) {
      throw new Failure(
        'structural',
        `The journal no longer holds what follows ${from.at}; it begins at ${this.start.at}.`,
        remedy,
      )
    }
  }

  /** What follows the position is kept for the follower. */
  async hold(follower: string, position: string): Promise<void> {
    const { followers } = this.register
    const known = follower in followers
    if (followers[follower] === position) return
    followers[follower] = position
    try {
      await this.save()
    } catch (error) {
      // A full disk must not keep us from letting go of what fills it. After a crash we would know of an earlier
      // position, and that is safe.
      if (!known || (error as NodeJS.ErrnoException).code !== 'ENOSPC') throw error
    }
  }

  /** Returns whether anybody is left. */
  async release(follower: string): Promise<boolean> {
    delete this.register.followers[follower]
    await this.save()
    return Object.keys(this.register.followers).length > 0
  }

  /** Tells of frames as soon as all of their transactions can be read. */
  onFlushed(listener: (frames: FrameSummary[]) => void): () => void {
    this.events.on('flushed', listener)
    return () => this.events.off('flushed', listener)
  }

  /** Lets go of the oldest segments as the retention allows, and of all that nobody needs when the disk is full. */
  async trim({ hours, bytes, hardBytes }: Retention, now: number): Promise<number> {
    let total = this.segments.reduce((sum, segment) => sum + segment.bytes, 0)
    let gone = 0
    while (this.segments.length > 1) {
      const full = this.appender.trouble !== undefined
      const [oldest, next] = this.segments as [Segment, Segment]
      const kept = next.index[0]!.position
      const needed = Object.values(this.register.followers).some(position => this.isAfter(kept, position))
      const old = oldest.lastAt / 1000 < now - hours * 3_600_000
      const mayGo = needed ? hardBytes > 0 && total > hardBytes : full || old || total > bytes
      if (!mayGo) break
      if (full) {
        // Room first: on a full disk it could not even be written down that the segment goes. Its index says where the
        // journal begins then, should we be cut off here.
        if (!(await loadIndex(this.folder, oldest.number))) break
        await truncate(segmentFile(this.folder, oldest.number), 0)
      }
      this.segments.shift()
      total -= oldest.bytes
      gone++
      this.register.begun = kept
      await this.save()
      await removeSegment(this.folder, oldest.number)
    }
    return gone
  }

  facts(): JournalFacts {
    const [first, last] = [this.segments[0]!, this.segments.at(-1)!]
    return {
      kind: this.register.kind,
      bytes: this.segments.reduce((sum, segment) => sum + segment.bytes, 0),
      segments: this.segments.length,
      start: { position: first.index[0]!.position, at: this.segments.find(one => one.firstAt)?.firstAt ?? 0 },
      end: { position: last.lastPosition, at: last.lastAt },
      followers: Object.entries(this.register.followers).map(([id, position]) => ({
        id,
        position,
        bytesBehind: this.bytesBehind(position),
      })),
      trouble: this.appender.trouble ?? null,
      bytesPerHour: this.bytesPerHour,
    }
  }

  private get bytesPerHour(): number | null {
    const since = this.endsAt - HOUR
    let later = 0
    for (const { bytes, index } of [...this.segments].reverse()) {
      const entry = index.findLast(({ at }) => at > 0 && at < since)
      if (entry) return later + bytes - entry.offset
      later += bytes
    }
    const firstAt = this.segments.find(one => one.firstAt)?.firstAt ?? this.endsAt
    const span = this.endsAt - firstAt
    return span > SHORTEST_SPAN ? (later * HOUR) / span : null
  }

  async close(): Promise<void> {
    await this.appender.close()
    this.events.removeAllListeners()
  }

  /** Takes the journal away. */
  async remove(): Promise<void> {
    await this.close()
    await rm(this.folder, { recursive: true, force: true })
  }

  /** The newest place to begin reading at in order to see all that follows the position. */
  placeBefore(position: string): { segment: Segment; offset: number } {
    for (const segment of [...this.segments].reverse()) {
      const entry = segment.index.findLast(one => !this.isAfter(one.position, position))
      if (entry) return { segment, offset: entry.offset }
    }
    return { segment: this.segments[0]!, offset: 0 }
  }

  private bytesBehind(position: string): number {
    if (!this.isAfter(this.end.at, position)) return 0
    const { segment, offset } = this.placeBefore(position)
    const later = this.segments.filter(other => other.number > segment.number)
    return later.reduce((sum, { bytes }) => sum + bytes, segment.bytes - offset)
  }

  /** One after another: several followers hold places at once, and each write replaces the file. */
  private save(): Promise<void> {
    return this.saves.run(async () => {
      const file = join(this.folder, 'journal.json')
      const next = `${file}.next`
      await writeFile(next, JSON.stringify(this.register, null, 1))
      const handle = await open(next, 'r')
      await handle.datasync()
      await handle.close()
      await rename(next, file)
    })
  }
}

async function isEmpty(folder: string, number: number): Promise<boolean> {
  return (await stat(segmentFile(folder, number))).size === 0
}

async function removeSegment(folder: string, number: number): Promise<void> {
  await rm(segmentFile(folder, number), { force: true })
  await rm(indexFile(folder, number), { force: true })
}
