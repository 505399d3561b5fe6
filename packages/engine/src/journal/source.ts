import type { CopyView, LogSide, Patience } from '@tide/connectors/contract/source'
import { Failure } from '@tide/core/failure'
import type { PlaceAsked } from '@tide/core/position/find'
import { comparePositions } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import { datasetId, type DatasetName } from '@tide/core/records/dataset'
import type { Journal } from '@tide/journal/journal'
import { placeAtPosition } from '@tide/journal/place'
import { JournalReader } from '@tide/journal/reader'
import type { ChangeBatch, SourceHead } from './batch.ts'
import { readAs } from './drift.ts'
import { coverageOf, followableFrom, isoOf, notThatFar, spanBetween } from './look-back.ts'
import type { FollowedTable } from './followed.ts'
import { journalGone, type JournalKeeper } from './keeper.ts'

/** That the source was heard to have no more is taken for true so long. */
const COMPLETE_HOLDS_MS = 3_000

/** One pipeline's source: its changes from the journal, its copies from the source itself. */
export class JournaledSource {
  private readonly keeper: JournalKeeper
  private readonly log: LogSide
  private reading: { reader: JournalReader; journal: Journal; tables: string } | undefined

  constructor(keeper: JournalKeeper, log: LogSide) {
    this.keeper = keeper
    this.log = log
  }

  /** By how much the source tells late, by its way of looking. */
  get lateMs(): number {
    return this.log.lateMs
  }

  /** From the returned position on, changes of the tables are in the journal. Repeating it starts afresh. */
  startCapture(follower: string, tables: readonly DatasetName[], patience?: Patience): Promise<Position> {
    return this.keeper.take(follower, tables, this.log, patience)
  }

  /** The same for more tables. */
  extendCapture(tables: readonly DatasetName[]): Promise<Position> {
    return this.keeper.extend(tables, this.log)
  }

  /** Where a follower goes on that stands at this position since before there was a journal; `undefined`: it does not. */
  takeUp(follower: string, position: Position): Promise<Position | undefined> {
    return this.keeper.takeUp(follower, position, this.log)
  }

  /** It has gone on from there. */
  settled(follower: string): Promise<void> {
    return this.keeper.settled(follower)
  }

  /** Removes what nobody else follows. */
  stopCapture(follower: string): Promise<void> {
    return this.keeper.release(follower, this.log)
  }

  /** A view of the tables to copy from; taken after the capture has started. */
  view(patience?: Patience): Promise<CopyView> {
    return this.log.view(this.keeper.reader, patience)
  }

  /** A second way to the same changes, for lanes that stand elsewhere than the others. */
  beside(): JournaledSource {
    return new JournaledSource(this.keeper, this.log)
  }

  /** At most about `maxEvents` events; fails when columns or the capture have changed. */
  async read(tables: readonly FollowedTable[], from: Position, maxEvents: number): Promise<ChangeBatch> {
    const reader = await this.readerAt(tables, from)
    const { transactions, at, complete, ...pending } = await reader.read(maxEvents)
    // What the journal still holds lands before we say that nothing more will come.
    if (transactions.length === 0 && this.keeper.fault) throw this.keeper.fault
    return { transactions, to: { ...from, at }, complete, head: this.headBehind(pending) }
  }

  /** How far the source is ahead of a position, without going there. */
  async head(tables: readonly FollowedTable[], from: Position): Promise<SourceHead> {
    const reader = await this.readerAt(tables, from)
    if (this.keeper.fault) throw this.keeper.fault
    return this.headBehind(await reader.pending())
  }

  /** The journal may let go of what comes before. */
  async acknowledge(follower: string, upTo: Position): Promise<void> {
    await this.reading?.journal.hold(follower, upTo.at)
  }

  /**
   * Keeps what follows an earlier position for the follower, and says from where on each table's changes can be had. Refused
   * where the journal does not hold what follows it, or some of that cannot be read.
   */
  async reachBack(
    follower: string,
    tables: readonly FollowedTable[],
    to: Position,
  ): Promise<(Position | undefined)[]> {
    const journal = await this.keeper.resume()
    if (!journal) throw journalGone()
    await journal.hold(follower, to.at)
    if (comparePositions(journal.start, to) !== 'before' && journal.start.at !== to.at) {
      throw new Failure(
        'refused',
        `The journal no longer holds what follows ${to.at}.`,
        `It begins at ${journal.start.at}.`,
      )
    }
    const covered = coverageOf(journal, tables)
    const reader = new JournalReader(journal, to.at, relation => readAs(tables, relation))
    try {
      await reader.refuseFaults()
    } catch (thrown) {
      throw notThatFar(thrown)
    } finally {
      await reader.close()
    }
    return covered
  }

  /** Lets a follower that copies nothing begin somewhere in the journal. */
  async beginAt(follower: string, tables: readonly DatasetName[], asked: PlaceAsked): Promise<Position> {
    const journal = await this.keeper.resume()
    if (!journal) throw journalGone()
    const position = await followableFrom(journal, tables, asked, this.keeper.clock.now)
    await journal.hold(follower, position.at)
    return position
  }

  /** How many changes of each table lie between two positions. */
  async changesBetween(tables: readonly FollowedTable[], from: Position, to: Position): Promise<number[]> {
    const journal = await this.keeper.resume()
    if (!journal) throw journalGone()
    if (comparePositions(to, journal.end) === 'after') {
      throw new Failure(
        'refused',
        `${to.at} lies behind the end of the journal.`,
        `That is at ${journal.end.at}.`,
      )
    }
    return (await spanBetween(journal, tables, from.at, to.at, () => false)).changes
  }

  /** When the first transaction behind a position was committed, ISO 8601; null: there is none yet. */
  async nextAt(position: Position): Promise<string | null> {
    const journal = await this.keeper.resume()
    if (!journal) throw journalGone()
    const { next } = await placeAtPosition(journal, position.at)
    return next && isoOf(next.at)
  }

  /** Resolves at the next flush of the journal, after the time at the latest, or when the signal aborts. */
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

  private async readerAt(tables: readonly FollowedTable[], from: Position): Promise<JournalReader> {
    const asked = tables.map(({ dataset, since }) => `${datasetId(dataset)} ${since?.at}`).join()
    if (this.reading?.reader.at === from.at && this.reading.tables === asked) return this.reading.reader
    await this.close()
    const journal = await this.keeper.resume()
    if (!journal) throw journalGone()
    journal.refuseGap(tables, from)
    const reader = new JournalReader(journal, from.at, relation => readAs(tables, relation))
    this.reading = { reader, journal, tables: asked }
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
    const holds = (COMPLETE_HOLDS_MS + this.lateMs) * 1000
    const fresh = now !== null && completeAt !== null && now - completeAt < holds
    const { endsAt } = this.keeper
    // While it is not known that the source has no more, it may have had some ever since it was last known, or since
    // what the journal holds.
    const unknownSince = fresh ? null : (completeAt ?? (endsAt || now))
    const oldest = oldestPending ?? unknownSince
    const journalEnd = Math.max(completeAt ?? 0, endsAt) || now
    return {
      now: now === null ? null : isoOf(now),
      completeUpTo: fresh ? isoOf(completeAt) : null,
      pendingChanges,
      oldestPending: oldest === null ? null : isoOf(oldest),
      journalEnd: fresh || journalEnd === null ? null : isoOf(journalEnd),
    }
  }
}

/** What a connection must offer to be followed. */
export function logOf(log: LogSide | undefined): LogSide {
  if (log) return log
  throw new Failure(
    'structural',
    'The source’s connection cannot be followed.',
    'Choose another in the setup.',
  )
}
