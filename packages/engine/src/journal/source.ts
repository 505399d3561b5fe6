import type {
  CopyView,
  LogSide,
  SourceHead,
  SourceLane,
  SourceSide,
  Patience,
} from '@tide/connectors/contract'
import { Failure } from '@tide/core/failure'
import type { Position } from '@tide/core/position/position'
import { datasetId, printName, type DatasetName } from '@tide/core/records/dataset'
import { ALTERED, type LoggedRelation } from '@tide/core/records/relation'
import type { Journal } from '@tide/journal/journal'
import { JournalReader, type ReadAs } from '@tide/journal/reader'
import { journalGone, type JournalKeeper } from './keeper.ts'

/** That the source was heard to have no more is taken for true so long. */
const COMPLETE_HOLDS_US = 3_000_000

/** One pipeline's source: its changes from the journal, its copies from the source itself. */
export class JournaledSource implements SourceSide {
  readonly captureNote: string
  private readonly keeper: JournalKeeper
  private readonly log: LogSide
  private reading: { reader: JournalReader; journal: Journal; lanes: string } | undefined

  constructor(keeper: JournalKeeper, log: LogSide) {
    this.keeper = keeper
    this.log = log
    this.captureNote = log.captureNote
  }

  captureStatements(tables: readonly DatasetName[]): Promise<string[]> {
    return this.log.captureStatements(this.keeper.reader, tables)
  }

  startCapture(follower: string, tables: readonly DatasetName[], patience?: Patience): Promise<Position> {
    return this.keeper.take(follower, tables, this.log, patience)
  }

  stopCapture(follower: string): Promise<void> {
    return this.keeper.release(follower, this.log)
  }

  view(_follower: string, patience?: Patience): Promise<CopyView> {
    return this.log.view(this.keeper.reader, patience)
  }

  extendCapture(tables: readonly DatasetName[]): Promise<Position> {
    return this.keeper.extend(tables, this.log)
  }

  beside(): JournaledSource {
    return new JournaledSource(this.keeper, this.log)
  }

  async read(_follower: string, lanes: readonly SourceLane[], from: Position, maxEvents: number) {
    const reader = await this.readerAt(lanes, from)
    const { transactions, at, complete, ...pending } = await reader.read(maxEvents)
    // What the journal still holds lands before we say that nothing more will come.
    if (transactions.length === 0 && this.keeper.fault) throw this.keeper.fault
    return { transactions, to: { ...from, at }, complete, head: this.headBehind(pending) }
  }

  async head(_follower: string, lanes: readonly SourceLane[], from: Position): Promise<SourceHead> {
    const reader = await this.readerAt(lanes, from)
    if (this.keeper.fault) throw this.keeper.fault
    return this.headBehind(await reader.pending())
  }

  async acknowledge(follower: string, upTo: Position): Promise<void> {
    await this.reading?.journal.hold(follower, upTo.at)
  }

  /** Resolves at the next flush of the journal. */
  news(milliseconds: number, signal: AbortSignal): Promise<void> {
    return new Promise(resolve => {
      const done = () => {
        leave?.()
        clearTimeout(timer)
        signal.removeEventListener('abort', done)
        resolve()
      }
      const timer = setTimeout(done, milliseconds)
      const leave = this.reading?.journal.onFlushed(done)
      signal.addEventListener('abort', done)
      if (signal.aborted) done()
    })
  }

  async close(): Promise<void> {
    await this.reading?.reader.close()
    this.reading = undefined
  }

  private async readerAt(lanes: readonly SourceLane[], from: Position): Promise<JournalReader> {
    const asked = lanes.map(({ dataset, since }) => `${datasetId(dataset)} ${since?.at}`).join()
    if (this.reading?.reader.at === from.at && this.reading.lanes === asked) return this.reading.reader
    await this.close()
    const journal = await this.keeper.resume()
    if (!journal) throw journalGone()
    journal.refuseGap(lanes, from)
    const reader = new JournalReader(journal, from.at, relation => readAs(lanes, relation))
    this.reading = { reader, journal, lanes: asked }
    return reader
  }

  private headBehind({
    pendingChanges,
    oldestPending,
  }: {
    pendingChanges: number
    oldestPending: number | null
  }): SourceHead {
    const { now, completeAt } = this.keeper.clock
    const fresh = now !== null && completeAt !== null && now - completeAt < COMPLETE_HOLDS_US
    const { endsAt } = this.keeper
    // While it is not known that the source has no more, it may have had some ever since it was last known, or since
    // what the journal holds.
    const unknownSince = fresh ? null : (completeAt ?? (endsAt || now))
    const oldest = oldestPending ?? unknownSince
    const journalEnd = Math.max(completeAt ?? 0, endsAt) || now
    return {
      now: now === null ? null : iso(now),
      completeUpTo: fresh ? iso(completeAt) : null,
      pendingChanges,
      oldestPending: oldest === null ? null : iso(oldest),
      journalEnd: fresh || journalEnd === null ? null : iso(journalEnd),
    }
  }
}

function readAs(
  lanes: readonly SourceLane[],
  { dataset, columns, identity }: LoggedRelation,
): ReadAs | undefined {
  const index = lanes.findIndex(
    lane => lane.dataset.namespace === dataset.namespace && lane.dataset.name === dataset.name,
  )
  const lane = lanes[index]
  if (!lane) return undefined
  if (columns.length === 0) {
    throw new Failure(
      'structural',
      `The table ${printName(dataset)} was dropped, renamed or made anew at the source.`,
      'Start again: the tables are copied anew; leave it out in the setup if it is gone.',
    )
  }
  const places = lane.columns.map(({ source }) => columns.findIndex(({ name }) => name === source))
  const changed = lane.columns.find((column, i) => columns[places[i]!]?.nativeType !== column.nativeType)
  const added = columns.find(({ name }) => !lane.columns.some(({ source }) => source === name))
  if (changed || added) {
    const altered = columns.every(({ nativeType }) => nativeType === ALTERED)
    throw new Failure(
      'structural',
      `The columns of ${printName(dataset)} were changed at the source${altered ? '' : `: ${changed ? changed.source : `${added!.name} is new`}`}.`,
      'Start again: the tables are copied anew with the columns they have now.',
    )
  }
  refuseWithoutKey(lane, identity)
  return { lane: index, columns: places, since: lane.since ?? null }
}

/** A log that does not tell the lane's key says of an update neither which row it was, nor whether its key has changed. */
function refuseWithoutKey({ dataset, key }: SourceLane, identity: readonly string[] | undefined): void {
  const untold = identity && key.find(name => !identity.includes(name))
  if (untold === undefined) return
  throw new Failure(
    'structural',
    `The replica identity of ${printName(dataset)} was changed at the source: its log no longer tells the old ${untold}, which is part of the key.`,
    `Give it one with ${key.join(', ')} in it (ALTER TABLE … REPLICA IDENTITY …) and start again: the tables are copied anew.`,
  )
}

function iso(microseconds: number): string {
  return new Date(microseconds / 1000).toISOString()
}
