/** Reads a pipeline’s changes in batches: what comes next already while what came before it lands. */
import type { ChangeBatch, SourceSide } from '@tide/connectors/contract'
import type { Position } from '@tide/core/position/position'
import { sourceLanesOf, type FollowedLane } from './lanes.ts'

/** Enough to make a merge worth its fixed cost; a source gives fewer where their values would not stay small in memory. */
const EVENTS_AT_ONCE = 20_000

export class BatchReader {
  private readonly pipeline: string
  private readonly source: SourceSide
  private readonly lanes: ReturnType<typeof sourceLanesOf>
  private ahead: { from: Position; batch: Promise<ChangeBatch> } | undefined

  constructor(pipeline: string, source: SourceSide, followed: readonly FollowedLane[]) {
    this.pipeline = pipeline
    this.source = source
    this.lanes = sourceLanesOf(followed)
  }

  async read(from: Position): Promise<ChangeBatch> {
    const { ahead } = this
    this.ahead = undefined
    if (ahead?.from.at === from.at) return ahead.batch
    await ahead?.batch.catch(() => {}) // whoever reads from elsewhere has no use for why it failed
    return this.source.read(this.pipeline, this.lanes, from, EVENTS_AT_ONCE)
  }

  /** Begins to read what is known to come behind this batch, where that asks nothing of the source itself. */
  readBehind({ to, head, complete }: ChangeBatch): void {
    if (!this.source.news || (complete && !(head.pendingChanges > 0))) return
    const batch = this.source.read(this.pipeline, this.lanes, to, EVENTS_AT_ONCE)
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
