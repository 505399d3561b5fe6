import type { EarlierFollower, LogSide, Patience } from '@tide/connectors/contract/source'
import type { Session } from '@tide/connectors/contract/session'
import type { JournalFollower, JournalInfo } from '@tide/core/api/journals'
import { asFailure, Failure } from '@tide/core/failure'
import { backoff } from '@tide/core/pace/backoff'
import { Turns } from '@tide/core/pace/turns'
import { comparePositions } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import { datasetId, type DatasetName } from '@tide/core/records/dataset'
import { Journal, type Retention } from '@tide/journal/journal'
import { journalLines } from '@tide/journal/lines'
import { Faults } from '../faults.ts'
import type { Surroundings } from '../repositories.ts'
import { Heard, type SourceClock } from './heard.ts'

/** How often the capture itself is looked at, and the retention carried out. */
const LOOK_AFTER_MS = 10_000

/**
 * Looks after one source's journal: reads the source's log into it for as long as there is anybody who follows,
 * whatever becomes of their targets, and tries again whenever the source was away.
 */
export class JournalKeeper {
  retry: JournalInfo['retry'] = null
  /** Why the source cannot be followed any more. */
  fault: Failure | undefined
  private readonly folder: string
  readonly reader: string
  private readonly open: () => Promise<Session>
  private readonly earlier: () => Promise<EarlierFollower[]>
  private readonly surroundings: Surroundings
  private readonly turns = new Turns()
  private journalThere: Journal | undefined
  private reading: { ended: AbortController; done: Promise<void> } | undefined
  private retention: Retention | undefined
  private readonly heard: Heard
  private readonly faults = new Faults()

  /**
   * `reader` names us at the source; `open` opens a session of the reader's own; `earlier`: who follows the source, and may
   * have done so before there was a journal.
   */
  constructor(
    folder: string,
    reader: string,
    open: () => Promise<Session>,
    surroundings: Surroundings,
    earlier: () => Promise<EarlierFollower[]> = async () => [],
  ) {
    this.folder = folder
    this.reader = reader
    this.open = open
    this.surroundings = surroundings
    this.earlier = earlier
    this.heard = new Heard(surroundings.now)
  }

  /** Enters a follower: from the returned position on, changes of the tables are in the journal. */
  take(
    follower: string,
    tables: readonly DatasetName[],
    log: LogSide,
    patience?: Patience,
  ): Promise<Position> {
    return this.turns.run(async () => {
      let journal = await this.opened()
      if (journal && (this.fault || !this.reading) && (await this.isOver(journal, log))) {
        // Others who stand on it hear of it when they look for their position in the new one.
        await this.stopReading()
        await journal.remove()
        journal = this.journalThere = undefined
      }
      this.fault = undefined
      let from: Position
      if (journal) from = await this.coverMore(journal, tables, log)
      else {
        from = await log.open(this.reader, tables, patience)
        journal = this.journalThere = await Journal.begin(this.folder, from)
        await journal.cover(tables, from)
      }
      await journal.hold(follower, from.at)
      this.startReading(journal)
      return from
    })
  }

  /** From the returned position on, changes of these tables are in the journal, too. */
  extend(tables: readonly DatasetName[], log: LogSide): Promise<Position> {
    return this.turns.run(async () => {
      const journal = await this.opened()
      if (!journal) throw journalGone()
      const from = await this.coverMore(journal, tables, log)
      this.startReading(journal)
      return from
    })
  }

  /**
   * Where a follower goes on that was there before there was a journal, and stands at this position: where the journal
   * begins, which may be a little earlier; what it lands again leaves the same rows. `undefined` for all others.
   */
  takeUp(follower: string, position: Position, log: LogSide): Promise<Position | undefined> {
    return this.turns.run(async () => {
      let journal = await this.opened()
      if (!journal && log.adopt) {
        const followers = await this.earlier()
        const from = await log.adopt(this.reader, followers, position)
        journal = this.journalThere = await Journal.begin(this.folder, from, { adopted: followers })
      }
      if (!journal?.isAdopted(follower)) return undefined
      // Of one that stands before the journal's beginning, nothing would be there of what came in between.
      return comparePositions(journal.start, position) === 'after' ? undefined : journal.start
    })
  }

  /** A follower has gone on from where the journal begins. */
  settled(follower: string): Promise<void> {
    return this.turns.run(async () => {
      const journal = await this.opened()
      if (journal?.isAdopted(follower)) await journal.settled(follower)
    })
  }

  /** Goes on reading for a follower that was entered before; also when it could not be before. */
  resume(): Promise<Journal | undefined> {
    return this.turns.run(async () => {
      const journal = await this.opened()
      if (!journal) return undefined
      this.fault = undefined
      this.startReading(journal)
      return journal
    })
  }

  /** Lets a follower go. With the last one, the source is told to forget us, and the journal goes. */
  release(follower: string, log: LogSide): Promise<void> {
    return this.turns.run(async () => {
      const journal = await this.opened()
      if (journal && (await journal.release(follower))) return
      await this.stopReading()
      await log.close(this.reader)
      await journal?.remove()
      this.journalThere = undefined
      this.fault = undefined
    })
  }

  /** Lets a follower go while the source is out of reach: what we keep there stays. */
  abandon(follower: string): Promise<void> {
    return this.turns.run(async () => {
      const journal = await this.opened()
      if (!journal || (await journal.release(follower))) return
      await this.stopReading()
      await journal.remove()
      this.journalThere = undefined
    })
  }

  /** What there is of a journal, without reading on at the source. */
  there(): Promise<Journal | undefined> {
    return this.turns.run(() => this.opened())
  }

  get clock(): SourceClock {
    return this.heard.clock
  }

  /** When the last transaction in the journal was committed, in microseconds since 1970; 0 when there is none. */
  get endsAt(): number {
    return this.journalThere?.endsAt ?? 0
  }

  /** For people; `undefined` when there is no journal. */
  get info():
    | (Omit<JournalInfo, 'followers' | 'diskFree'> & { followers: Omit<JournalFollower, 'name'>[] })
    | undefined {
    const facts = this.journalThere?.facts()
    if (!facts) return undefined
    const { kind, bytes, segments, start, end, followers, trouble, bytesPerHour } = facts
    const { now, completeAt } = this.clock
    const mark = ({ position, at }: { position: string; at: number }) => ({ position, at: isoOf(at || null) })
    return {
      kind,
      bytes,
      bytesPerHour,
      segments,
      start: mark(start),
      end: mark(end),
      head: this.heard.head ?? null,
      heardAt: isoOf(now),
      completeUpTo: isoOf(completeAt),
      retry: this.retry,
      fault: this.fault ? { message: this.fault.message, remedy: this.fault.remedy } : null,
      diskTrouble: trouble?.message ?? null,
      retention: this.retention ?? null,
      followers: followers.map(({ id, ...rest }) => ({ pipeline: id, ...rest })),
    }
  }

  /**
   * The journal's changes as JSON Lines, oldest first, from behind a position on; at most so many. Throws what is
   * refused before the first.
   */
  async *lines(from: string | undefined, most: number): AsyncGenerator<string> {
    const journal = await this.there()
    if (!journal) return
    if (from !== undefined) refuseUnreadable(journal, from)
    yield* journalLines(journal, from, most)
  }

  async close(): Promise<void> {
    await this.turns.run(async () => {
      await this.stopReading()
      await this.journalThere?.close()
      this.journalThere = undefined
    })
  }

  private async coverMore(journal: Journal, tables: readonly DatasetName[], log: LogSide): Promise<Position> {
    const known = new Set(journal.coveredTables.map(datasetId))
    if (log.selectsTables) await this.stopReading()
    const { position, added } = await log.extend(this.reader, tables)
    // What the log told of before may not be covered: somebody else made the publication, or we did not get as far.
    const fresh = new Set(added.map(datasetId))
    const uncovered = tables.filter(table => fresh.has(datasetId(table)) || !known.has(datasetId(table)))
    await journal.cover(uncovered, position)
    return position
  }

  /** Whether what follows the journal's end is not to be had any more. */
  private async isOver(journal: Journal, log: LogSide): Promise<boolean> {
    try {
      await log.inspectHistory(this.reader, journal.end)
      return false
    } catch (thrown) {
      const { kind } = asFailure(thrown)
      if (kind === 'transient' || kind === 'fault') throw thrown
      return true
    }
  }

  private async opened(): Promise<Journal | undefined> {
    return (this.journalThere ??= await Journal.open(this.folder))
  }

  private startReading(journal: Journal): void {
    if (this.reading) return
    const ended = new AbortController()
    this.reading = { ended, done: this.readOn(journal, ended.signal) }
  }

  private async stopReading(): Promise<void> {
    this.reading?.ended.abort()
    await this.reading?.done
    this.reading = undefined
  }

  private async readOn(journal: Journal, signal: AbortSignal): Promise<void> {
    const { now, random, sleep } = this.surroundings
    let attempt = 0
    while (!signal.aborted) {
      try {
        await this.readOnce(journal, signal, () => {
          attempt = 0
          this.retry = null
        })
      } catch (thrown) {
        if (signal.aborted) break
        const failure = asFailure(thrown)
        const passes = failure.kind === 'transient' || failure.kind === 'fault'
        if (!passes || this.faults.isHopeless(failure, now())) {
          this.fault = failure
          break
        }
        attempt++
        const wait = backoff(attempt, random())
        const { message, remedy } = failure
        this.retry = { attempt, message, remedy, nextAt: new Date(now() + wait).toISOString() }
        await sleep(wait, signal)
      }
    }
    if (this.reading?.ended.signal === signal && this.fault) this.reading = undefined
  }

  private async readOnce(journal: Journal, signal: AbortSignal, succeeded: () => void): Promise<void> {
    const session = await this.open()
    const ended = new AbortController()
    const either = AbortSignal.any([signal, ended.signal])
    try {
      const log = session.log!
      this.retention = log.retention
      this.heard.lateMs = log.lateMs
      await log.inspectTables(this.reader, journal.coveredTables)
      await journal.appender.abandon()
      const { end: from, coveredTables: tables, stops } = journal
      const sink = this.heard.sink(journal, succeeded)
      const following = log.follow(this.reader, { from, tables, stops }, sink, either)
      const caring = this.lookAfter(journal, log, either)
      try {
        await Promise.race([following, caring])
      } finally {
        ended.abort()
        await Promise.allSettled([following, caring])
      }
    } finally {
      await session.close().catch(() => {})
    }
  }

  private async lookAfter(journal: Journal, log: LogSide, signal: AbortSignal): Promise<void> {
    const { now, sleep } = this.surroundings
    while (!signal.aborted) {
      await sleep(LOOK_AFTER_MS, signal)
      if (signal.aborted) return
      await log.inspectTables(this.reader, journal.coveredTables)
      await journal.trim(log.retention, now())
    }
  }
}

export function journalGone(): Failure {
  return new Failure(
    'structural',
    'The journal of this source is gone; what was committed since is not known.',
    'Was the data folder restored or moved? Start again: the tables are copied anew.',
  )
}

/** Not every text is a position, and not every position is still there. */
function refuseUnreadable(journal: Journal, from: string): void {
  const { start } = journal
  let gone: boolean
  try {
    gone = journal.isAfter(start.at, from)
  } catch (cause) {
    const remedy = `Give one as it is printed, such as ${start.at}.`
    throw new Failure('refused', `“${from}” is no position of this journal.`, remedy, cause)
  }
  if (!gone) return
  throw new Failure(
    'refused',
    `The journal no longer holds what follows ${from}.`,
    `The earliest it can be read from is ${start.at}.`,
  )
}

function isoOf(microseconds: number | null): string | null {
  return microseconds === null ? null : new Date(microseconds / 1000).toISOString()
}
