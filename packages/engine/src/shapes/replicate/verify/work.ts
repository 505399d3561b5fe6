/** What a lane's verification works with: where it is told, how it waits, and its pace. */
import {
  NOTHING_VERIFIED,
  type AskedLane,
  type Difference,
  type LaneVerified,
} from '@tide/core/definition/verification'
import { Failure } from '@tide/core/failure'
import { orderOf } from '@tide/core/scope/order'
import type { ReplicationRun } from '../../shape.ts'
import type { WorkingLane } from '../lanes.ts'
import type { OpenPipeline } from '../open.ts'

const TELL_MS = 1_000
const LOOK_MS = 100
/** What is waited for so long is said. */
const SAID_AFTER_MS = 3_000

const moments = orderOf({ kind: 'timestamp', zoned: true })

/** A person has ended it. */
export class Ended extends Error {}

export class LaneWork {
  verified: LaneVerified = NOTHING_VERIFIED
  readonly open: OpenPipeline
  readonly asked: AskedLane
  readonly signal: AbortSignal
  private readonly run: ReplicationRun
  private readonly lane: WorkingLane | undefined
  private readonly ended = new AbortController()
  private toldAt = 0
  private readonly completeAtFirst: string
  private readonly began: number

  constructor(
    run: ReplicationRun,
    open: OpenPipeline,
    asked: AskedLane,
    lane: WorkingLane | undefined,
    signal: AbortSignal,
  ) {
    this.run = run
    this.open = open
    this.asked = asked
    this.lane = lane
    this.signal = AbortSignal.any([signal, this.ended.signal])
    this.completeAtFirst = open.checkpoint.now.completeUpTo
    this.began = run.parts.surroundings.now()
  }

  async tell(verified: LaneVerified): Promise<void> {
    this.verified = verified
    this.toldAt = this.now
    const { verifications } = this.run.parts
    if (await verifications.tell(this.run.record.id, this.asked, verified)) return
    this.ended.abort()
    throw new Ended()
  }

  /** Tells now and then; lets others have their turn, and keeps to the pace. */
  async went(verified: LaneVerified): Promise<void> {
    this.verified = verified
    if (this.now - this.toldAt > TELL_MS) await this.tell(verified)
    const { rowsPerSecond, pauseAboveSeconds } = this.asked.pace
    if (rowsPerSecond !== null) {
      const rows = Math.max(verified.atSource ?? 0, verified.atTarget ?? 0)
      const due = this.began + (rows / rowsPerSecond) * 1000
      await this.until(() => this.now >= due, null)
    }
    if (pauseAboveSeconds !== null) {
      await this.until(() => {
        const { lag } = this.run.meter
        return lag !== null && lag <= pauseAboveSeconds
      }, `the lag to fall below ${pauseAboveSeconds} s`)
    }
    await new Promise(resolve => setImmediate(resolve))
  }

  keep(differences: readonly Difference[]): Promise<void> {
    return this.run.parts.verifications.keep(this.run.record.id, this.asked, differences)
  }

  /** Throws a Failure where the lane stands still. */
  isCopied(): Promise<void> {
    return this.until(() => {
      const { copied, own } = this.goingProgress
      return copied && own === undefined
    }, 'its table to be copied')
  }

  /** Until everything that was committed before this time of the source has landed in the lane. */
  landed(clock: string): Promise<void> {
    const asked = moments.parse(clock)
    return this.until(() => {
      const { completeUpTo } = this.open.checkpoint.now
      // The time that a checkpoint begins with is not the source's.
      if (completeUpTo === this.completeAtFirst || this.goingProgress.own !== undefined) return false
      return moments.compare(moments.parse(completeUpTo), asked) > 0
    }, 'the pipeline to land what there was when rows were read')
  }

  private get now(): number {
    return this.run.parts.surroundings.now()
  }

  private get goingProgress() {
    const progress = this.open.checkpoint.now.lanes[this.lane!.index]!
    if (!progress.paused) return progress
    throw new Failure('refused', 'The lane stands still.', 'Let it go on, and verify it then.')
  }

  private async until(reached: () => boolean, waits: string | null): Promise<void> {
    const since = this.now
    while (!reached()) {
      this.signal.throwIfAborted()
      await this.run.parts.surroundings.sleep(LOOK_MS, this.signal)
      if (this.now - since > SAID_AFTER_MS && this.now - this.toldAt > TELL_MS)
        await this.tell({ ...this.verified, waits })
    }
    if (this.verified.waits !== null) this.verified = { ...this.verified, waits: null }
  }
}
