/** Replication: tables are copied into a target, and their changes follow. */
import type { PipelineStatus, ReplicateStatus } from '@tide/core/api/pipelines'
import { DeletionGuard, GUARDED_PERCENT } from '@tide/core/apply/deletion-guard'
import { sourceOf } from '@tide/core/definition/pipeline'
import type { OpenRun, ReplicationRun, ShapeRun } from '../shape.ts'
import { takeOver, targetOf } from '../target.ts'
import type { Known } from './known.ts'
import { workingLane } from './lanes.ts'
import { laneStatus } from './lane-status.ts'
import { OpenReplication } from './replication.ts'
import { keyedHash } from '../../keyed-hash.ts'
import { logOf } from '../../journal/source.ts'

export class Replicate implements ShapeRun {
  private readonly run: ReplicationRun
  private readonly known: Known

  constructor(run: ReplicationRun) {
    this.run = run
    const { lanes: planned, origin } = run.record
    const shaping = { origin, hash: keyedHash(run.parts.maskKey) }
    const lanes = planned.map((lane, i) => workingLane(lane, i, shaping))
    const { percent } = run.record.definition.guard ?? { percent: GUARDED_PERCENT }
    const guard = new DeletionGuard(percent, run.parts.surroundings.now)
    const rowsThere = lanes.map(() => null)
    this.known = { lanes, shaping, checkpoint: undefined, copyRates: [], rowsThere, guard }
  }

  get measures(): boolean {
    return this.known.checkpoint !== undefined
  }

  get standing(): ShapeRun['standing'] {
    const stream = this.known.checkpoint?.now
    if (!stream || this.run.record.definition.does === 'structure') return undefined
    return { position: stream.position, completeUpTo: stream.completeUpTo }
  }

  /** The source's log is being tried again by its journal's keeper. */
  get retry(): PipelineStatus['retry'] {
    return this.run.parts.journals.of(sourceOf(this.run.record)).retry
  }

  get status(): ReplicateStatus {
    const { lanes, checkpoint, copyRates, rowsThere } = this.known
    const stream = checkpoint?.now
    const now = this.run.parts.surroundings.now()
    return {
      completeUpTo: stream?.completeUpTo ?? null,
      consistent: stream?.consistent ?? false,
      position: stream?.position.at ?? null,
      lanes: lanes.map(({ plan }, i) => {
        const rate = copyRates[i]?.perSecond(now) ?? 0
        return laneStatus(plan, stream?.lanes[i], rate, rowsThere[i] ?? null)
      }),
    }
  }

  async open(epoch: number): Promise<OpenRun> {
    const { record, parts } = this.run
    const { definition } = record
    const connection = sourceOf(record)
    const closing: (() => Promise<void>)[] = []
    const close = async () => {
      for (const one of closing) await one().catch(() => {})
    }
    const open = async (connection: string) => {
      const session = await parts.connections.open(connection)
      closing.unshift(() => session.close())
      return session
    }
    try {
      const from = await open(connection)
      const source = parts.journals.sourceOf(connection, logOf(from.log))
      closing.push(() => source.close())
      const to = await open(definition.to)
      const target = targetOf(to)
      const found = await takeOver(target, record, epoch)
      return new OpenReplication(this.run, this.known, { from, to, source, target, found, epoch, close })
    } catch (thrown) {
      await close()
      throw thrown
    }
  }
}
