/** Gathers a pipeline's changes in batches: says when there is enough to land, and reads ahead while a batch lands. */
import type { Gathering } from '@tide/connectors/contract/target'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { Position } from '@tide/core/position/position'
import type { ChangeBatch, SourceHead } from '../../journal/batch.ts'
import type { JournaledSource } from '../../journal/source.ts'
import type { FollowedTable } from '../../journal/followed.ts'
import { followedTables, type FollowedLane } from './lanes.ts'

/** Enough to make a merge worth its fixed cost; a source gives fewer where their values would not stay small in memory. */
const EVENTS_AT_ONCE = 60_000

/** As the target takes changes best, but for what was said. */
export function gatheringOf(target: Gathering, speed: ReplicateDefinition['speed']): Gathering {
  if (!speed) return target
  const { changes, waits } = speed
  return {
    changes: changes ?? (waits === undefined ? target.changes : EVENTS_AT_ONCE),
    waitMs: waits === undefined ? target.waitMs : waits * 1000,
  }
}

export class Gatherer {
  private readonly source: JournaledSource
  private readonly tables: FollowedTable[]
  private readonly gathering: Gathering
  private readonly eventsAtOnce: number
  private ahead: { from: Position; batch: Promise<ChangeBatch> } | undefined

  constructor(
    source: JournaledSource,
    followed: readonly FollowedLane[],
    gathering: Gathering,
    eventsAtOnce = EVENTS_AT_ONCE,
  ) {
    this.source = source
    this.tables = followedTables(followed)
    this.gathering = gathering
    this.eventsAtOnce = eventsAtOnce
  }

  /** How far the source is ahead of a position. */
  head(from: Position): Promise<SourceHead> {
    return this.source.head(this.tables, from)
  }

  /** Whether what is pending should land now, or wait for more. */
  async isDue(from: Position): Promise<boolean> {
    const { changes, waitMs } = this.gathering
    if (waitMs === 0) return true
    const { pendingChanges, oldestPending, now } = await this.head(from)
    if (pendingChanges === 0 || pendingChanges >= changes) return true
    // How long they have waited is not known everywhere; then they wait no longer.
    if (now === null || oldestPending === null) return true
    return Date.parse(now) - Date.parse(oldestPending) >= waitMs
  }

  /** Whether a landing that has so many changes should take in the next batch, too. */
  takesMore(landed: number, { head, complete }: ChangeBatch): boolean {
    return !complete || (landed < this.gathering.changes && head.pendingChanges > 0)
  }

  /** `most`: about so many events, where it must be no more. */
  async read(from: Position, most = this.eventsAtOnce): Promise<ChangeBatch> {
    const { ahead } = this
    this.ahead = undefined
    if (ahead?.from.at === from.at && most === this.eventsAtOnce) return ahead.batch
    await ahead?.batch.catch(() => {}) // whoever reads from elsewhere has no use for why it failed
    return this.source.read(this.tables, from, most)
  }

  /** Begins to read what is known to come behind this batch. */
  readBehind({ to, head, complete }: ChangeBatch): void {
    if (complete && !(head.pendingChanges > 0)) return
    const batch = this.source.read(this.tables, to, this.eventsAtOnce)
    batch.catch(() => {}) // it is awaited when its turn comes
    this.ahead = { from: to, batch }
  }

  get readsAhead(): boolean {
    return this.ahead !== undefined
  }

  /** Nothing is being read any more. */
  async end(): Promise<void> {
    await this.ahead?.batch.catch(() => {})
    this.ahead = undefined
  }
}
