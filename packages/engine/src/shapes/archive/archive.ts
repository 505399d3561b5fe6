/** An archive: rows in scope go to a lake slice by slice; each is verified there, and then deleted at the source. */
import type { Session } from '@tide/connectors/contract/session'
import type { Removal } from '@tide/connectors/contract/removal'
import type { TargetSide } from '@tide/connectors/contract/target'
import type { ReplicateStatus } from '@tide/core/api/pipelines'
import type { Checkpoint, LaneProgress } from '@tide/core/checkpoint/checkpoint'
import { sourceOf } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import { Rate } from '@tide/core/pace/rate'
import { printName } from '@tide/core/records/dataset'
import { keyedHash } from '../../keyed-hash.ts'
import type { OpenRun, ReplicationRun, ShapeRun } from '../shape.ts'
import { firstCheckpoint, SharedCheckpoint } from '../replicate/checkpoint.ts'
import { laneStatus } from '../replicate/lane-status.ts'
import { takeOver, targetOf } from '../target.ts'
import { archivedLane, type ArchivedLane } from './lane.ts'
import { archiveLane, SLICE_ROWS, type SliceDone } from './slices.ts'

const RATE_OVER_MS = 5_000

/** What outlives the sessions of a run. */
interface Known {
  lanes: ArchivedLane[]
  checkpoint: SharedCheckpoint | undefined
  rates: Rate[]
}

export class Archive implements ShapeRun {
  private readonly run: ReplicationRun
  private readonly known: Known
  readonly standing = undefined
  readonly retry = null

  constructor(run: ReplicationRun) {
    this.run = run
    const { lanes, origin } = run.record
    const shaping = { origin, hash: keyedHash(run.parts.maskKey) }
    const { now } = run.parts.surroundings
    this.known = {
      lanes: lanes.map((lane, index) => archivedLane(lane, index, shaping)),
      checkpoint: undefined,
      rates: lanes.map(() => new Rate(RATE_OVER_MS, now())),
    }
  }

  get measures(): boolean {
    return this.known.checkpoint !== undefined
  }

  get status(): ReplicateStatus {
    const { lanes, checkpoint, rates } = this.known
    const now = this.run.parts.surroundings.now()
    return {
      completeUpTo: null,
      consistent: false,
      position: null,
      lanes: lanes.map(({ plan }, i) =>
        laneStatus(plan, checkpoint?.now.lanes[i], rates[i]!.perSecond(now), null),
      ),
    }
  }

  async open(epoch: number): Promise<OpenRun> {
    const { record, parts } = this.run
    const opened: Session[] = []
    const close = async () => {
      for (const session of opened) await session.close().catch(() => {})
    }
    const open = async (connection: string) => {
      const session = await parts.connections.open(connection)
      opened.push(session)
      return session
    }
    try {
      const from = await open(sourceOf(record))
      const to = await open(record.definition.to)
      const target = targetOf(to)
      const found = await takeOver(target, record, epoch)
      return new OpenArchive(this.run, this.known, { from, to, target, found, epoch, close })
    } catch (thrown) {
      await close()
      throw thrown
    }
  }
}

interface Sides {
  from: Session
  to: Session
  target: TargetSide
  found: Checkpoint | undefined
  epoch: number
  close(): Promise<void>
}

class OpenArchive implements OpenRun {
  private readonly run: ReplicationRun
  private readonly known: Known
  private readonly sides: Sides
  private readonly removal: Removal

  constructor(run: ReplicationRun, known: Known, sides: Sides) {
    this.run = run
    this.known = known
    this.sides = sides
    this.removal = removalOf(sides.from)
  }

  async begin(): Promise<void> {
    const { found, target, epoch } = this.sides
    const { id, steps, lanes, plan, definition } = this.run.record
    // Before anything moves.
    for (const { source } of lanes) await this.removal.inspect(source, this.unheard)
    let checkpoint = found
    if (!checkpoint) {
      const nowhere = { kind: 'none', incarnation: '', at: '' }
      const now = this.run.parts.surroundings.now()
      checkpoint = firstCheckpoint(id, epoch, nowhere, { lanes, plan, does: definition.does }, now)
      await target.prepare(steps, checkpoint)
    }
    this.known.checkpoint = new SharedCheckpoint(checkpoint)
  }

  errand(): Promise<string> {
    throw new Failure(
      'refused',
      'An archive copies, verifies and deletes by itself.',
      'Wait until it is finished, or stop it.',
    )
  }

  async step(signal: AbortSignal): Promise<string | undefined> {
    const { run, known, checkpoint } = this
    await run.setState('Copying')
    run.runs.going('archive')
    const lane = known.lanes.find(({ index }) => !checkpoint.now.lanes[index]!.copied)
    if (!lane) return this.said()
    const parts = {
      ...this.sides,
      checkpoint,
      removal: this.removal,
      unheard: this.unheard,
      rows: SLICE_ROWS,
      now: () => new Date(run.parts.surroundings.now()).toISOString(),
    }
    await archiveLane(parts, lane, signal, done => this.told(lane, done))
    return undefined
  }

  /** A slice is through. */
  private told({ index, plan }: ArchivedLane, done: SliceDone): void {
    const { run, known } = this
    const { archived, deleted, kept, bytes, beganAt, read } = done
    const table = printName(plan.source)
    run.succeeded()
    known.rates[index]!.add(run.parts.surroundings.now(), archived)
    const batch = { rows: archived, bytes, inserted: 0, updated: 0, deleted, truncated: 0, beganAt }
    run.runs.batch('archive', table, 'full', batch)
    run.runs.count('archive', { reads: read, writes: 1 })
    run.detail(() => ({
      message: `Archived ${archived.toLocaleString('en')} rows of ${table}: ${deleted.toLocaleString('en')} deleted at the source, ${kept.toLocaleString('en')} stay.`,
      lanes: [table],
    }))
  }

  async rest(signal: AbortSignal): Promise<void> {
    await this.run.parts.surroundings.sleep(60_000, signal)
  }

  async dismantle(): Promise<string> {
    await this.sides.target.forget(this.run.record.id)
    return 'What is archived stays in the archive, and what is not deleted yet stays at the source.'
  }

  close(): Promise<void> {
    return this.sides.close()
  }

  private get checkpoint(): SharedCheckpoint {
    if (!this.known.checkpoint) throw new Error('the archive has not begun')
    return this.known.checkpoint
  }

  /** Who follows the source elsewhere is not told of what is deleted. */
  private get unheard(): boolean {
    return this.run.record.definition.elsewhere !== 'go'
  }

  private said(): string {
    const { lanes } = this.checkpoint.now
    const sum = (of: (lane: LaneProgress) => number) =>
      lanes.reduce((all, lane) => all + of(lane), 0).toLocaleString('en')
    const kept = sum(({ archive }) => archive?.kept ?? 0)
    const stay = kept === '0' ? '' : `; ${kept} stay there, since they changed or others refer to them`
    return `Finished: ${sum(({ copiedRows }) => copiedRows)} rows are archived, ${sum(({ archive }) => archive?.deleted ?? 0)} of them are deleted at the source${stay}.`
  }
}

function removalOf({ removal }: Session): Removal {
  if (removal) return removal
  throw new Failure(
    'structural',
    'Rows of this source cannot be deleted from here.',
    'Archive from PostgreSQL or MariaDB.',
  )
}
