/** Lanes that stand elsewhere than the others: copied beside them, they catch up by themselves, and join. */
import type { TargetSide } from '@tide/connectors/contract/target'
import type { Stream } from '@tide/core/checkpoint/checkpoint'
import { Turns } from '@tide/core/pace/turns'
import { comparePositions } from '@tide/core/position/order'
import type { JournaledSource } from '../../journal/source.ts'
import { detachedLanes, joined, ownPosition, sinceOf, withOwnLanding } from './checkpoint.ts'
import { Gatherer } from './gather.ts'
import { landOnce, type Landing } from './land.ts'
import { noteLanding } from './account.ts'
import type { WorkingLane } from './lanes.ts'
import { POLL_MS, writeCheckpoint, type OpenPipeline } from './open.ts'

/** They catch up, for which nothing need wait. */
const LAND_AT_ONCE: TargetSide['gathering'] = { changes: 1, waitMs: 0 }

export class DetachedLanes {
  /** They are copied and have come to where the others stood: what is left to land is little. */
  ready = false
  private joined = false
  private readonly rounds = new Turns()
  private gatherer: Gatherer | undefined
  private readonly open: OpenPipeline
  private readonly source: JournaledSource
  private readonly lanes: readonly WorkingLane[]

  /** `source`: a way of their own to the changes (see `JournaledSource.beside`). */
  constructor(open: OpenPipeline, source: JournaledSource) {
    this.open = open
    this.source = source
    const detached = detachedLanes(open.checkpoint.now)
    this.lanes = open.lanes.filter(({ index }) => detached.includes(index))
  }

  /** Copies the lanes, then follows with them until they have joined the others or the signal aborts. */
  async run(
    copy: (source: JournaledSource, lanes: readonly WorkingLane[]) => Promise<void>,
    signal: AbortSignal,
  ): Promise<void> {
    const uncopied = () => this.lanes.filter(({ index }) => !this.progress.lanes[index]!.copied)
    for (let left = uncopied(); left.length > 0 && !signal.aborted; left = uncopied())
      await copy(this.source, left)
    while (!signal.aborted && !this.joined) {
      const landing = await this.round()
      if (this.isLevel()) this.ready = true
      if (landing?.oldest === null) await this.source.news(POLL_MS, signal)
    }
  }

  /** Lands what is left and puts the lanes with the others, which must stand still meanwhile. */
  async join(): Promise<void> {
    do await this.round()
    while (!this.isLevel())
    await this.rounds.run(async () => {
      await writeCheckpoint(this.open, joined)
      this.joined = true
    })
  }

  /** Nothing is being read any more. */
  async end(): Promise<void> {
    await this.gatherer?.end()
  }

  private get progress(): Stream {
    return this.open.checkpoint.now
  }

  /** They stand where the others do, or further on. */
  private isLevel(): boolean {
    const own = ownPosition(this.progress)
    return !own || comparePositions(own, this.progress.position) !== 'before'
  }

  private round(): Promise<Landing | undefined> {
    return this.rounds.run(async () => {
      if (this.joined) return undefined
      const { checkpoint, meter } = this.open
      const followed = this.lanes.map(lane => {
        const progress = this.progress.lanes[lane.index]!
        return { lane, since: sinceOf(progress), kept: progress.kept ?? null }
      })
      this.gatherer ??= new Gatherer(this.source, followed, LAND_AT_ONCE)
      const from = ownPosition(this.progress)!
      const began = Date.parse(this.open.clock())
      const landing = await landOnce(
        this.gatherer,
        followed,
        from,
        this.open,
        async (landing, write, counted) => {
          await checkpoint.commit(now => counted(withOwnLanding(now, landing)), write)
          meter.alsoLanded(landing.changes)
        },
      )
      if (landing.oldest === null) await checkpoint.note(now => withOwnLanding(now, landing))
      else noteLanding(this.open, landing, began)
      return landing
    })
  }
}
