/** Lanes that are copied again beside the others, catch up by themselves, and join them. */
import type { Checkpoint, SourceSide } from '@tide/connectors/contract'
import { Turns } from '@tide/core/pace/turns'
import { comparePositions } from '@tide/core/position/order'
import { joined, lanesApart, ownPosition, sinceOf, withOwnLanding } from './checkpoint.ts'
import { followOnce, type Landing } from './follow.ts'
import type { WorkingLane } from './lanes.ts'
import { BatchReader } from './batches.ts'
import { POLL_MS, writeCheckpoint, type OpenPipeline } from './open.ts'

export class LanesApart {
  /** They are copied and have come to where the others stood: what is left to land is little. */
  ready = false
  private joined = false
  private readonly rounds = new Turns()
  private reader: BatchReader | undefined
  private readonly open: OpenPipeline
  private readonly source: SourceSide
  private readonly lanes: readonly WorkingLane[]

  /** `source`: a way of their own to the changes (see `SourceSide.beside`). */
  constructor(open: OpenPipeline, source: SourceSide) {
    this.open = open
    this.source = source
    const places = lanesApart(open.checkpoint.now)
    this.lanes = open.lanes.filter(({ place }) => places.includes(place))
  }

  /** Copies the lanes, then follows with them until they have joined the others or the signal aborts. */
  async run(
    copy: (source: SourceSide, lanes: readonly WorkingLane[]) => Promise<void>,
    signal: AbortSignal,
  ): Promise<void> {
    const uncopied = this.lanes.filter(({ place }) => !this.progress.lanes[place]!.copied)
    if (uncopied.length > 0) await copy(this.source, uncopied)
    while (!signal.aborted && !this.joined) {
      const landing = await this.round()
      if (this.isLevel()) this.ready = true
      if (landing?.oldest === null) await this.source.news!(POLL_MS, signal)
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
    await this.reader?.end()
  }

  private get progress(): Checkpoint {
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
      const { id, target, checkpoint, fetchRow, meter } = this.open
      const sinceNow = ({ place }: WorkingLane) => sinceOf(this.progress.lanes[place]!)
      const followed = this.lanes.map(lane => ({ lane, since: sinceNow(lane) }))
      this.reader ??= new BatchReader(id, this.source, followed)
      const from = ownPosition(this.progress)!
      const landing = await followOnce(
        this.reader,
        target,
        followed,
        from,
        fetchRow,
        async (landing, write) => {
          await checkpoint.commit(now => withOwnLanding(now, landing), write)
          meter.alsoLanded(landing.changes)
        },
      )
      if (landing.oldest === null) await checkpoint.note(now => withOwnLanding(now, landing))
      return landing
    })
  }
}
