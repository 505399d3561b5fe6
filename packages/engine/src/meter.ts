import type { SourceHead } from './journal/batch.ts'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { lagSeconds } from '@tide/core/pace/lag'
import { Rate } from '@tide/core/pace/rate'
import type { TideSample } from '@tide/core/pace/tide'

/** A head older than this is not known any more. */
const HEAD_HOLDS_MS = 10_000

/** Keeps the live figures of one running pipeline. Times are the engine's, in milliseconds. */
export class Meter {
  private readonly now: () => number
  private head: { head: SourceHead & { now: string }; at: number } | undefined
  private worstLag = 0
  private lastReading = 0
  private readonly landedRate: Rate
  private readonly committedRate: Rate
  private committedBefore = 0
  /** Changes that were pending and never landed, since they were in a lane's copy already. */
  private leftOut = 0
  private headHoldsMs = HEAD_HOLDS_MS
  landed = 0

  constructor(now: () => number) {
    this.now = now
    this.landedRate = new Rate(60_000, now())
    this.committedRate = new Rate(60_000, now())
  }

  /** Goes on from what had landed before; what is known of the source begins anew. `lateMs`: by how much the source tells late. */
  begin(landed: number, lateMs = 0): void {
    this.headHoldsMs = HEAD_HOLDS_MS + lateMs
    this.landed = landed
    this.head = undefined
    this.committedBefore = landed
    this.leftOut = 0
  }

  /** Notes how far ahead the source is of what has landed. Without the source's clock the lag becomes unknown. */
  sawHead(head: SourceHead): void {
    if (head.now !== null) this.head = { head: { ...head, now: head.now }, at: this.now() }
    const committed = this.landed + this.leftOut + head.pendingChanges
    if (committed > this.committedBefore) this.committedRate.add(this.now(), committed - this.committedBefore)
    this.committedBefore = Math.max(committed, this.committedBefore)
    const reached = head.pendingChanges === 0 && head.completeUpTo !== null
    if (reached) this.leftOut = this.committedBefore - this.landed
  }

  /** Notes that changes have landed; `oldest` is when the oldest of them was committed. */
  sawLanding(changes: number, oldest: string): void {
    this.landed += changes
    this.landedRate.add(this.now(), changes)
    if (this.head) this.worstLag = Math.max(this.worstLag, this.lagAgainst(oldest)!)
  }

  /** Changes have landed in lanes whose pending ones are not measured here. */
  alsoLanded(changes: number): void {
    this.landed += changes
    this.committedBefore += changes
  }

  /** Unknown while nothing is pending that we know of, but the source may have more. */
  get backlog(): number | null {
    if (!this.known) return null
    const changes = Math.max(0, this.committedBefore - this.landed - this.leftOut)
    const { completeUpTo, oldestPending } = this.head!.head
    return changes === 0 && completeUpTo === null && oldestPending !== null ? null : changes
  }

  /** Seconds behind: of what waits now, and of what landed since the reading before the last. */
  get lag(): number | null {
    return this.atLeast(Math.max(this.worstLag, this.lastReading))
  }

  /** The lag's parts, in seconds; null where the lag is not known. */
  get delay(): PipelineStatus['delay'] {
    const { lag } = this
    if (lag === null) return null
    const { journalEnd } = this.head!.head
    const journal = journalEnd === null ? 0 : Math.min(lag, this.lagAgainst(journalEnd) ?? 0)
    return { journal, target: lag - journal }
  }

  get landedPerMinute(): number {
    return this.landedRate.perSecond(this.now()) * 60
  }

  get committedPerMinute(): number {
    return this.committedRate.perSecond(this.now()) * 60
  }

  /** One reading for the tide chart; `copied`: rows, so far. */
  sample(copied: number): TideSample {
    const lag = this.atLeast(this.worstLag)
    this.lastReading = this.worstLag
    this.worstLag = 0
    const landed = this.landed + this.leftOut
    return { at: this.now(), committed: landed + (this.backlog ?? 0), landed, copied, lag }
  }

  /** The lag, when it has been so much lately; null when it is not known what waits. */
  private atLeast(seconds: number): number | null {
    if (!this.known) return null
    const { completeUpTo, oldestPending } = this.head!.head
    const waiting = lagSeconds({ now: this.sourceNow, completeUpTo, oldestPending })
    return waiting === null ? null : Math.max(seconds, waiting)
  }

  private get known(): boolean {
    return this.head !== undefined && this.now() - this.head.at < this.headHoldsMs
  }

  private lagAgainst(oldest: string): number | null {
    return lagSeconds({ now: this.sourceNow, completeUpTo: null, oldestPending: oldest })
  }

  /** The source's clock is where it was at the last head, plus the time since. */
  private get sourceNow(): string {
    const { head, at } = this.head!
    return new Date(Date.parse(head.now) + this.now() - at).toISOString()
  }
}
