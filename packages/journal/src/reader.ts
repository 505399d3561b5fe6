/** Reads the journal from a position on: transactions with the changes of chosen tables. */
import { Failure } from '@tide/core/failure'
import { comparePositions } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import type { ChangeEvent, SourceTransaction } from '@tide/core/records/change'
import type { LoggedRelation } from '@tide/core/records/relation'
import { filledRow, isPartial, pickedRow, type PackedRow } from '@tide/core/records/tuple'
import { open, type FileHandle } from 'node:fs/promises'
import { EntryCursor } from './entries.ts'
import type { Frame, FrameSummary } from './frame.ts'
import type { Journal } from './journal.ts'
import { FrameReader, segmentFile, type Segment } from './segment.ts'

/** How a table's rows become those of a lane. */
export interface ReadAs {
  lane: number
  /** For each column of the lane, where it is in the logged row. */
  columns: readonly number[]
  /** Changes up to here are left out. */
  since: Position | null
}

/** Says which lane a table is read as; `undefined`: none. When it throws, reading fails at the table's next change. */
export type ChooseLane = (relation: LoggedRelation) => ReadAs | undefined

export interface JournalBatch {
  transactions: SourceTransaction[]
  /** The position reached; inside a transaction when `complete` is false, and then the rest of it comes next. */
  at: string
  complete: boolean
  /** Chosen changes that follow in the journal, and when the oldest of them was committed. */
  pendingChanges: number
  oldestPending: number | null
}

interface Choice extends ReadAs {
  /** The columns stand as they are logged. */
  straight: boolean
  /** Why changes to it cannot be read. */
  fault?: unknown
}

/** Values of a batch take about this much memory at most, whatever the number of events asked for. */
const BATCH_BYTES = 16 * 1024 * 1024

export class JournalReader {
  private readonly journal: Journal
  private readonly choose: ChooseLane
  private readonly choices = new Map<number, Choice | undefined>()
  private readonly leave: () => void
  private segment: Segment
  private file: FileHandle | undefined
  private frames: FrameReader | undefined
  private offset: number
  private cursor: EntryCursor | undefined
  private frame: FrameSummary | undefined
  private position: string
  /** Where reading was asked to begin: transactions up to here are passed over. */
  private readonly from: string
  /** `number`: how many of its changes were passed, `given`: how many of them were chosen. */
  private open: { id: string; at: string; start: string; given: number; number: number } | undefined
  private passing = false
  /** The first part of a transaction that comes by itself, behind the whole ones before it. */
  private held: SourceTransaction | undefined
  /** Why what comes next cannot be read. */
  private fault: { thrown: unknown } | undefined
  /** Some lane begins later than the position. */
  private leavesOut = false
  /** Frames ahead with chosen changes, oldest first; not known before the first read. */
  private ahead: { count: number; at: number }[] | undefined
  private changesAhead = 0
  private announced: FrameSummary[] = []

  /** `from` must be a position that the journal holds what follows of. */
  constructor(journal: Journal, from: string, choose: ChooseLane) {
    this.journal = journal
    this.from = from
    this.position = from
    this.choose = choose
    const { segment, offset } = journal.placeBefore(from)
    this.segment = segment
    this.offset = offset
    this.leave = journal.onFlushed(frames => {
      if (this.ahead) for (const frame of frames) this.announce(frame)
      else this.announced.push(...frames)
    })
  }

  /** The token of where the reader stands; equal to `at` of the batch it gave last. */
  get at(): string {
    return this.open?.given && !this.held ? `${this.position} + ${this.open.given}` : this.position
  }

  async read(maxEvents: number): Promise<JournalBatch> {
    if (this.fault) throw this.fault.thrown
    if (!this.ahead) await this.countAhead()
    let current = this.held
    this.held = undefined
    const transactions: SourceTransaction[] = current ? [current] : []
    let [events, bytes] = [current?.events.length ?? 0, 0]
    let inParts = this.open?.given !== undefined && this.open.given > 0 && !current
    // A transaction that has been given whole must not look as if there were more of it to come.
    const ends = () => this.cursor?.beforeCommit
    while ((events < maxEvents && bytes < BATCH_BYTES) || ends()) {
      if (!this.cursor && !(await this.enterFrame())) break
      const cursor = this.cursor!
      const began = cursor.place
      const kind = cursor.next()
      if (kind === undefined) this.leaveFrame()
      else if (kind === 'begin') {
        const { start, at, id } = cursor.begun
        this.passing = this.journal.isAfter(this.from, start)
        this.open = { id, at: iso(at), start, given: 0, number: 0 }
        if (!this.passing) this.dropSince(start)
      } else if (kind === 'commit') {
        if (!this.passing) this.position = cursor.committed
        this.open = undefined
        this.passing = false
        current = undefined
        inParts = false
      } else if (kind !== 'relation' && !this.passing) {
        const number = this.open!.number++
        const choice = this.choiceOf(cursor.relation)
        if (!choice) continue
        this.passOne()
        if (choice.since && this.isBefore(this.open!.start, choice.since)) continue
        if (choice.fault) {
          // What was committed before lands first; of its own transaction nothing does.
          this.fault = { thrown: choice.fault }
          if (current) transactions.pop()
          if (inParts || transactions.length === 0) throw choice.fault
          this.open!.given = 0
          break
        }
        if (!current) {
          const { id, start, at } = this.open!
          transactions.push((current = { id, start, at, events: [] }))
        }
        current.events.push(event(kind, cursor, choice, number))
        this.open!.given++
        events++
        bytes += cursor.place - began
      }
    }
    // When it cannot be read to its end, it must not take the whole ones before it back with it.
    if (this.open?.given && transactions.length > 1) this.held = transactions.pop()
    return {
      transactions,
      at: this.at,
      complete: !this.open?.given || this.held !== undefined,
      ...(await this.pending()),
    }
  }

  /** What is to come, without reading it. */
  async pending(): Promise<Pick<JournalBatch, 'pendingChanges' | 'oldestPending'>> {
    if (!this.ahead) await this.countAhead()
    const held = this.held?.events.length ?? 0
    const oldest = this.held ? Date.parse(this.held.at) * 1000 : this.ahead![0]?.at
    return { pendingChanges: this.changesAhead + held, oldestPending: oldest ?? null }
  }

  /** Fails when some change that is to come cannot be read. */
  async refuseFaults(): Promise<void> {
    await this.pending()
    for (const choice of this.choices.values()) if (choice?.fault) throw choice.fault
  }

  async close(): Promise<void> {
    this.leave()
    await this.file?.close()
    this.file = undefined
  }

  /** Goes to the next frame that holds something for us. False at the end. */
  private async enterFrame(): Promise<boolean> {
    for (;;) {
      const frame = await this.nextFrame()
      if (!frame) return false
      this.frame = frame
      if (this.open || this.chosenIn(frame) > 0 || !frame.whole) {
        this.cursor = new EntryCursor(frame.entries)
        return true
      }
      this.moveTo(frame.position)
    }
  }

  private leaveFrame(): void {
    const frame = this.frame!
    this.cursor = undefined
    if (frame.whole) this.moveTo(frame.position)
    if (this.chosenIn(frame) === 0) return
    const left = this.ahead!.shift()
    this.changesAhead -= left?.count ?? 0
  }

  private moveTo(position: string): void {
    if (this.journal.isAfter(position, this.position)) this.position = position
  }

  private isBefore(start: string, since: Position): boolean {
    return comparePositions(this.journal.position(start), since) === 'before'
  }

  /** From behind a lane's own beginning on there is nothing more to leave out. */
  private dropSince(start: string): void {
    if (!this.leavesOut) return
    for (const choice of this.choices.values()) {
      if (choice?.since && !this.isBefore(start, choice.since)) choice.since = null
    }
    this.leavesOut = [...this.choices.values()].some(choice => choice?.since)
  }

  private choiceOf(relation: number): Choice | undefined {
    if (this.choices.has(relation)) return this.choices.get(relation)
    const described = this.journal.relations.get(relation)
    if (!described) {
      throw new Failure(
        'structural',
        `The journal ${this.journal.folder} is damaged: a table whose changes it holds is not described in it.`,
        'Stop all pipelines of this source and start them again: the journal is begun anew, and their tables are copied.',
      )
    }
    let choice: Choice | undefined
    try {
      const read = this.choose(described)
      const straight =
        read?.columns.length === described.columns.length && read.columns.every((c, i) => c === i)
      choice = read && { ...read, straight }
    } catch (fault) {
      choice = { lane: -1, columns: [], since: null, straight: true, fault }
    }
    if (choice?.since) this.leavesOut = true
    this.choices.set(relation, choice)
    return choice
  }

  private chosenIn({ counts }: FrameSummary): number {
    let count = 0
    for (const [relation, changes] of counts) if (this.choiceOf(relation)) count += changes
    return count
  }

  /** The next frame of whole transactions; `undefined` at the end of what is durable. */
  private async nextFrame(): Promise<Frame | undefined> {
    for (;;) {
      if (!this.frames) {
        if (this.segment.bytes === 0) return undefined
        this.file = await open(segmentFile(this.journal.folder, this.segment.number), 'r')
        this.frames = new FrameReader(this.file, this.offset)
      }
      if (this.frames.offset < this.segment.bytes) {
        const frame = await this.frames.next(this.segment.bytes)
        if (frame) return frame
        throw new Error(
          `the journal ${this.journal.folder} is damaged: segment ${this.segment.number} at ${this.frames.offset}`,
        )
      }
      const next = this.journal.segments.find(({ number }) => number > this.segment.number)
      if (!next) return undefined
      this.segment = next
      this.offset = 0
      await this.file!.close()
      this.frames = undefined
    }
  }

  /** Looks once through the frames ahead for how much there is to come; afterwards every flush tells. */
  private async countAhead(): Promise<void> {
    const segments = this.journal.segments.filter(({ number }) => number >= this.segment.number)
    const ends = segments.map(({ bytes }) => bytes)
    this.announced = [] // they are within these bounds
    const found: FrameSummary[] = []
    for (const [i, { number }] of segments.entries()) {
      if (ends[i] === 0) continue
      const file = await open(segmentFile(this.journal.folder, number), 'r')
      try {
        const frames = new FrameReader(file, i === 0 ? this.offset : 0)
        for (let frame = await frames.next(ends[i]!); frame; frame = await frames.next(ends[i]!)) {
          const { whole, firstAt, lastAt, counts, position } = frame // its entries need not stay
          found.push({ whole, firstAt, lastAt, counts, position })
        }
      } finally {
        await file.close()
      }
    }
    this.ahead = []
    for (const frame of [...found, ...this.announced]) this.announce(frame)
    this.announced = []
  }

  private announce(frame: FrameSummary): void {
    const count = this.chosenIn(frame)
    if (count === 0) return
    this.ahead!.push({ count, at: frame.firstAt })
    this.changesAhead += count
  }

  private passOne(): void {
    const first = this.ahead![0]
    if (!first || first.count === 0) return
    first.count--
    this.changesAhead--
  }
}

function event(
  kind: string,
  cursor: EntryCursor,
  { lane, straight, columns }: Choice,
  number: number,
): ChangeEvent {
  const row = (at: number): PackedRow => {
    const logged = { bytes: cursor.bytes, at }
    return straight ? logged : pickedRow(logged, columns)
  }
  switch (kind) {
    case 'insert':
      return { op: 'insert', lane, number, after: row(cursor.after) }
    case 'update': {
      const after = row(cursor.after)
      if (cursor.before < 0) return { op: 'update', lane, number, before: after, after }
      const before = row(cursor.before)
      // What was not sent because unchanged is in the row before, where the log tells that.
      const whole = isPartial(after) ? filledRow(after, before) : after
      return { op: 'update', lane, number, before, after: whole }
    }
    case 'delete':
      return { op: 'delete', lane, number, before: row(cursor.before) }
    default:
      return { op: 'truncate', lane, number }
  }
}

function iso(microseconds: number): string {
  const milliseconds = Math.floor(microseconds / 1000)
  const rest = String(microseconds - milliseconds * 1000).padStart(3, '0')
  return `${new Date(milliseconds).toISOString().slice(0, -1)}${rest}Z`
}
