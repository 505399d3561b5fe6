import type { Session } from '@tide/connectors/contract/session'
import type { TargetLane, TargetSide } from '@tide/connectors/contract/target'
import { singleStream, type Checkpoint } from '@tide/core/checkpoint/checkpoint'
import { sourceOf } from '@tide/core/definition/pipeline'
import type { Errand } from '@tide/core/definition/errand'
import { Failure, messageOf } from '@tide/core/failure'
import { placeAsked } from '@tide/core/position/find'
import { datasetId, printName } from '@tide/core/records/dataset'
import type { JournaledSource } from '../../journal/source.ts'
import type { OpenRun, ReplicationRun } from '../shape.ts'
import {
  changed,
  detachedLanes,
  firstCheckpoint,
  goingOn,
  isUnemptied,
  landedChanges,
  placesOf,
  SharedCheckpoint,
  standing,
  uncopied,
  unemptied,
} from './checkpoint.ts'
import { Copying } from './copying.ts'
import { DetachedLanes } from './detached.ts'
import { follow, landRest, lanesTogether } from './follow.ts'
import { Gatherer, gatheringOf } from './gather.ts'
import { LaneFailure } from './lane-failure.ts'
import type { WorkingLane } from './lanes.ts'
import { Holding } from './holding.ts'
import { writeCheckpoint, type OpenPipeline } from './open.ts'
import { repair } from './verify/repair.ts'
import { LaneSides } from './verify/sides.ts'
import { TargetStatus } from './target-status.ts'
import { statusTables } from '@tide/core/plan/status'
import { Verifying } from './verify/verify.ts'
import { settleHeld } from './settle-held.ts'
import { rewind } from './rewind.ts'
import type { Known } from './known.ts'

/** How often a checkpoint is written in which only time has gone on; more often where others read how the pipeline stands. */
const QUIET_MS = 10_000
const QUIET_SAYING_MS = 2_000

/** Both sides, open, and the checkpoint that was found at the target. */
export interface Sides {
  from: Session
  to: Session
  source: JournaledSource
  target: TargetSide
  found: Checkpoint | undefined
  epoch: number
  close(): Promise<void>
}

/** A replication that is open: copies what is not copied, then follows. */
export class OpenReplication implements OpenRun {
  private readonly run: ReplicationRun
  private readonly known: Known
  private readonly sides: Sides
  private opened: OpenPipeline | undefined
  private verifying: Verifying | undefined
  /** Its people have ended it. */
  private over = false
  private copying: Copying | undefined

  constructor(run: ReplicationRun, known: Known, sides: Sides) {
    this.run = run
    this.known = known
    this.sides = sides
  }

  async begin(): Promise<void> {
    if (this.run.record.definition.does === 'structure') return this.makeTables()
    const { source, found, from } = this.sides
    const { id } = this.run.record
    const { lanes } = this.known
    const target = this.saying(this.sides.target)
    const checkpoint = found ? await this.changed(found) : await this.beginAnew()
    const shared = (this.known.checkpoint = new SharedCheckpoint(checkpoint))
    const { meter } = this.run
    meter.begin(landedChanges(shared.now.lanes), source.lateMs)
    const clock = () => new Date(this.run.parts.surroundings.now()).toISOString()
    const { held } = this.run.record.definition
    const { held: repository } = this.run.parts
    const holding = await Holding.open({
      repository,
      pipeline: id,
      lanes,
      bounds: held,
      rowsThere: lane => this.rowsThere(lane),
      clock,
      told: rows => this.heldNow(rows),
    })
    if (!found) await holding.forget(lanes.map(({ index }) => index))
    this.opened = {
      id,
      lanes,
      source,
      target,
      gathering: gatheringOf(target.gathering, this.run.record.definition.speed),
      checkpoint: shared,
      clock,
      holding,
      guard: this.known.guard,
      rowsThere: lane => this.rowsThere(lane),
      fetchRow: (lane, identity) => {
        this.run.runs.count('follow', { reads: 1 })
        return from.row(lane.source, identity)
      },
      scan: (table, limits) =>
        counted(scanOf(from)(table, limits), rows => this.run.runs.count('follow', { reads: rows })),
      meter,
      quietMs: this.run.record.definition.status === undefined ? QUIET_MS : QUIET_SAYING_MS,
      detail: told => this.run.detail(told),
      runs: this.run.runs,
      lands: { now: false },
    }
    await this.takeUp(this.opened)
    this.copying = new Copying(this.run, this.known, this.opened)
    this.verifying = new Verifying(this.run, this.opened, this.sides, this.known.shaping)
    this.verifying.look()
    if (!found) await this.run.keepPosition('start')
  }

  /** Recopy empties the lanes; they are copied again from the next step on. */
  async errand({ kind, lanes, to, reason, held, repair: deed }: Errand): Promise<string> {
    switch (kind) {
      case 'rewind': {
        await this.run.keepPosition('rewind', reason ?? undefined)
        const { meter, runs } = this.run
        const said = await runs.during('rewind', () => rewind(this.open, to!, reason))
        meter.begin(landedChanges(this.open.checkpoint.now.lanes), this.sides.source.lateMs)
        await this.run.log(reason === null ? 'info' : 'warning', said)
        return said
      }
      case 'let rows go':
        this.open.guard.allow()
        return 'What comes next may delete as much as it does.'
      case 'send':
      case 'two-way':
        throw new Error('a replication sends nothing into apps, and pairs nothing')
      case 'land now':
        this.open.lands.now = true
        return 'What has come lands now.'
      case 'held':
        return settleHeld(this.open, held!)
      case 'verify':
        this.verifying?.look()
        return 'Begun.'
      case 'repair': {
        const { verifications, surroundings } = this.run.parts
        const iso = () => new Date(surroundings.now()).toISOString()
        const sides = new LaneSides(this.laneAt(deed!.index), this.known.shaping, this.sides, iso)
        const done = await this.run.runs.during('repair', () =>
          repair(this.open, sides, this.run.record.id, verifications, deed!),
        )
        const { source: table, target: repaired } = sides.lane.plan
        await this.run.log('info', `Repaired ${printName(repaired)}: ${done}.`, { lanes: [printName(table)] })
        return done
      }
      case 'pause lanes': {
        const still = new Set(lanes)
        if (this.open.checkpoint.now.lanes.every(({ paused }, i) => paused || still.has(i)))
          throw new Failure(
            'refused',
            'No lane would go on.',
            'Pause the pipeline, or its origin, as a whole.',
          )
        const paused = { since: this.open.clock(), why: null }
        await writeCheckpoint(this.open, now => standing(now, lanes, paused))
        return `Standing still: ${this.namesOf(lanes)}.`
      }
      case 'continue lanes':
        await writeCheckpoint(this.open, now => goingOn(now, lanes))
        return `Going on: ${this.namesOf(lanes)}.`
      case 'recopy': {
        const { target, checkpoint } = this.open
        const again = [...new Set(lanes)]
        const tables = targetsOf(again.map(index => this.known.lanes[index]!).filter(isEmptied))
        await checkpoint.commit(
          now => uncopied(now, again),
          next => target.empty(tables, next),
        )
        await this.open.holding.forget(again)
        return tables.length < again.length
          ? `To be copied again over what is there: ${this.namesOf(again)}.`
          : `Emptied ${this.namesOf(again)}, to be copied again.`
      }
    }
  }

  async step(signal: AbortSignal): Promise<string | undefined> {
    try {
      return await this.goOn(signal)
    } catch (thrown) {
      if (!(thrown instanceof LaneFailure)) throw thrown
      await this.standStill(thrown)
      return undefined
    }
  }

  /** The lane stands still, and the others go on; throws where there are none, or nothing would come to its end. */
  private async standStill(failure: LaneFailure): Promise<void> {
    const { index, message, remedy } = failure
    const { lanes } = this.open.checkpoint.now
    const others = lanes.some(({ paused }, i) => i !== index && !paused)
    if (!others || this.run.record.definition.does === 'copy') throw failure
    const paused = { since: this.open.clock(), why: { message, remedy } }
    await writeCheckpoint(this.open, now => standing(now, [index], paused))
    const { source } = this.laneAt(index).plan
    const [name, lane] = [printName(source), [printName(source)]]
    await this.run.log('error', `${name} stands still, and the others go on: ${message}`, { lanes: lane })
  }

  private async goOn(signal: AbortSignal): Promise<string | undefined> {
    const { does } = this.run.record.definition
    if (does === 'structure') return 'Finished: the tables are made.'
    const { lanes, consistent } = this.open.checkpoint.now
    // What changed while it was copied is followed until all of it is as of one moment.
    if (does === 'copy' && consistent) {
      const rows = lanes.reduce((sum, { copiedRows }) => sum + copiedRows, 0).toLocaleString('en')
      return `Finished: ${rows} rows are copied, as of ${this.open.checkpoint.now.completeUpTo}.`
    }
    const uncopied = this.known.lanes.filter(({ index }) => !lanes[index]!.copied && !lanes[index]!.own)
    if (uncopied.length === 0) await this.follow(signal)
    else {
      await this.run.setState('Copying')
      await this.copying!.copy(this.open.source, uncopied, signal)
    }
    return undefined
  }

  /** The last lane that goes on does so: what it holds can be looked after only while it does. */
  private refuseOld(): void {
    const { lanes } = this.open.checkpoint.now
    const going = this.known.lanes.filter(({ index }) => !lanes[index]!.paused)
    if (going.length > 1) this.open.holding.refuseOld(going)
  }

  async rest(signal: AbortSignal): Promise<void> {
    const { sleep } = this.run.parts.surroundings
    if (!this.opened) return sleep(60_000, signal)
    if (this.run.record.definition.status !== undefined) await writeCheckpoint(this.opened)
    const { source, gathering, checkpoint } = this.open
    const gatherer = new Gatherer(source, lanesTogether(this.open), gathering)
    while (!signal.aborted) {
      this.run.meter.sawHead(await gatherer.head(checkpoint.now.position))
      this.run.succeeded()
      await sleep(1000, signal)
    }
  }

  /** Takes the capture and the checkpoint away; the tables at the target stay. */
  async dismantle(): Promise<string> {
    const { id, definition } = this.run.record
    const { source, target } = this.sides
    if (definition.does === 'structure') {
      await target.forget(id)
      return 'The tables at the target stay.'
    }
    if (this.opened && this.run.state === 'Following') await this.landRest(this.opened)
    if (this.opened && definition.status !== undefined) {
      this.over = true
      await writeCheckpoint(this.opened)
    }
    await source.stopCapture(id)
    await target.forget(id)
    return 'The capture was removed from the source; the tables at the target stay.'
  }

  /** Whoever stops it does so, also when what waits will not go in. */
  private async landRest(open: OpenPipeline): Promise<void> {
    try {
      await landRest(open, this.run.parts.surroundings.now)
    } catch (thrown) {
      await this.run.log('warning', `What waited for more has not landed: ${messageOf(thrown)}`)
    }
  }

  async close(): Promise<void> {
    await this.verifying?.end()
    await this.sides.close()
  }

  /** Where its people want that, the target says with each landing how the pipeline stands. */
  private saying(target: TargetSide): TargetSide {
    const { definition, origin } = this.run.record
    const [first] = this.known.lanes
    if (definition.status === undefined || !first) return target
    const status = new TargetStatus({
      tables: statusTables(definition.status, first.plan.target.namespace, target.profile),
      origin,
      lanes: this.known.lanes,
      now: this.run.parts.surroundings.now,
      state: () => (this.over ? 'Stopped' : this.run.state),
      lag: () => (this.run.state === 'Following' && !this.over ? this.run.meter.lag : null),
      runs: () => this.run.runs.newest.values(),
      known: this.known,
    })
    return status.over(target)
  }

  private namesOf(indexes: readonly number[]): string {
    return indexes.map(index => printName(this.known.lanes[index]!.plan.target)).join(', ')
  }

  /** For the account of whatever is done. */
  private heldNow(held: number): void {
    for (const kind of ['copy', 'follow'] as const) this.run.runs.count(kind, { held })
  }

  private laneAt(index: number): WorkingLane {
    const lane = this.known.lanes[index]
    if (lane) return lane
    throw new Failure('refused', 'The lane is not there any more.', 'Verify what is there now.')
  }

  /** As counted lately, or as the copy and the changes since have made it. */
  private rowsThere({ index }: WorkingLane): number | null {
    const { rowsThere, checkpoint } = this.known
    const { copied, partial, copiedRows, inserted, deleted, grownBefore = 0 } = checkpoint!.now.lanes[index]!
    const grown = inserted - deleted - grownBefore
    return rowsThere[index] ?? (copied && !partial ? copiedRows + grown : null)
  }

  private get open(): OpenPipeline {
    if (!this.opened) throw new Error('the replication has not begun')
    return this.opened
  }

  /** Nothing is captured. The checkpoint says that it is done, until it is Finished. */
  private async makeTables(): Promise<void> {
    const { target, found, epoch } = this.sides
    const { id, steps } = this.run.record
    const nowhere = { kind: 'none', incarnation: '', at: '' }
    const now = this.run.parts.surroundings.now()
    if (!found) await target.prepare(steps, firstCheckpoint(id, epoch, nowhere, this.begun, now))
  }

  /** What a checkpoint is begun or changed by. */
  private get begun(): Parameters<typeof firstCheckpoint>[3] {
    const { lanes, plan, definition } = this.run.record
    return { lanes, plan, does: definition.does }
  }

  private async beginAnew(): Promise<Checkpoint> {
    const { source, target, epoch } = this.sides
    const { id, steps, change } = this.run.record
    const { state } = this.run
    const { lanes } = this.known
    if (state === 'Following' || state === 'Paused') {
      throw new Failure(
        'structural',
        'The checkpoint of this pipeline is gone from the target.',
        'Was the target restored or replaced? Put it back and continue, or start again: the tables are copied anew.',
      )
    }
    await this.run.setState('Copying')
    const tables = lanes.map(({ plan }) => plan.source)
    const captured = await this.run.patiently(patience => source.startCapture(id, tables, patience))
    const { does, followFrom } = this.run.record.definition
    const position =
      does === 'follow' && followFrom !== undefined
        ? await source.beginAt(id, tables, placeAsked(followFrom))
        : captured
    await this.othersFirst()
    const now = this.run.parts.surroundings.now()
    const checkpoint = firstCheckpoint(id, epoch, position, this.begun, now)
    const made = [...steps, ...(change?.steps ?? [])]
    // Where the tables are not made for this, rows of before may be in them.
    if (steps.length > 0) await target.prepare(made, checkpoint)
    else {
      await target.prepare(made, unemptied(checkpoint))
      await this.empty(checkpoint)
    }
    await this.run.parts.pipelines.changed(id, this.run.record.plan)
    const said = steps.length > 0 ? `Prepared ${lanes.length} tables at the target; changes` : 'Changes'
    await this.run.log(
      'info',
      `${said} are ${position === captured ? 'captured' : 'taken from the journal'} from ${position.at} on.`,
    )
    return checkpoint
  }

  /** What another plan asks for is done with the checkpoint that is by that plan, at once or not at all. */
  private async changed(there: Checkpoint): Promise<Checkpoint> {
    const found = isUnemptied(there) ? await this.empty(there) : there
    const { source, target } = this.sides
    const { id, change, plan } = this.run.record
    if (!change) return found
    const stream = singleStream(found)
    const isDone = (stream.plan ?? 0) === plan
    let next = found
    if (!isDone) {
      await this.othersFirst()
      const { lanes } = this.known
      const added = placesOf(change.lanes, ({ was }) => was === null)
      const position =
        added.length > 0
          ? await source.extendCapture(added.map(place => lanes[place]!.plan.source))
          : undefined
      next = { ...found, streams: [changed(stream, this.begun, change.lanes, position)] }
      const again = targetsOf(
        placesOf(change.lanes, one => one.again)
          .map(place => lanes[place]!)
          .filter(isEmptied),
      )
      await target.change(change.steps, again, next)
      const captured = position ? `; changes of ${added.length} more are captured from ${position.at} on` : ''
      await this.run.log('info', `Changed as planned at the target${captured}.`)
    }
    // What was held of rows that are copied again is held anew where they still do not fit.
    const { held, surroundings } = this.run.parts
    const at = new Date(surroundings.now()).toISOString()
    for (const place of placesOf(change.lanes, one => one.again || one.over === true))
      await held.settle(id, datasetId(this.known.lanes[place]!.plan.source), 'all', {
        state: 'superseded',
        at,
      })
    await this.run.parts.pipelines.changed(id, plan)
    return next
  }

  /** The lanes' parts, with the checkpoint that says so; but for tables whose rows are to stay. */
  private async empty(checkpoint: Checkpoint): Promise<Checkpoint> {
    const { plan } = this.run.record
    const emptied = { ...checkpoint, streams: [{ ...singleStream(checkpoint), plan }] }
    const lanes = this.known.lanes.filter(({ plan }) => plan.there === undefined)
    await this.sides.target.empty(targetsOf(lanes), emptied)
    return emptied
  }

  /** Tables that origins share are altered by one of them, before the others write by the new plan. */
  private async othersFirst(): Promise<void> {
    const { after } = this.run.record.change ?? {}
    const other = after === undefined ? undefined : await this.run.parts.pipelines.get(after)
    if (!other?.change) return
    throw new Failure(
      'transient',
      `The tables are still to be altered, by the origin ${other.origin}.`,
      'It goes on by itself; look at that origin when it takes long.',
    )
  }

  /** A pipeline from before there was a journal goes on from where that begins, and stays with it. */
  private async takeUp(open: OpenPipeline): Promise<void> {
    const { id, source, checkpoint } = open
    const position = await source.takeUp(id, checkpoint.now.position)
    if (!position) return
    const { connections, home, pipelines } = this.run.parts
    const name = (await connections.describe(sourceOf(this.run.record)))?.name ?? 'its source'
    await pipelines.bind(id, { home, affinity: `the journal of ${name}` })
    await writeCheckpoint(open, now => ({ ...now, position, consistent: false }))
    await source.settled(id)
  }

  private async follow(signal: AbortSignal): Promise<void> {
    const { run, open } = this
    const once = run.record.definition.does === 'copy'
    await run.setState(once ? 'Copying' : 'Following')
    if (!once) run.runs.going('follow')
    const told = {
      succeeded: () => {
        run.succeeded()
        this.refuseOld()
        if (once && open.checkpoint.now.consistent) run.turn()
      },
      counted: (lane: number, rows: number) => void (this.known.rowsThere[lane] = rows),
    }
    const beside = detachedLanes(open.checkpoint.now).length > 0 ? open.source.beside() : undefined
    const detached = beside && new DetachedLanes(open, beside)
    let fault: { thrown: unknown } | undefined
    const others = detached
      ?.run((source, lanes) => this.copying!.copy(source, lanes, signal), signal)
      .catch((thrown: unknown) => {
        fault = { thrown }
        run.turn()
      })
    try {
      await follow(open, detached, run.parts.surroundings, told, signal)
    } finally {
      run.turn()
      await others
      await detached?.end()
      await beside?.close()
    }
    if (fault) throw fault.thrown
  }
}

function scanOf(from: Session): NonNullable<Session['scan']> {
  if (from.scan) return from.scan.bind(from)
  throw new Failure(
    'structural',
    'This source cannot be looked through.',
    'Take relative dates out of the scopes.',
  )
}

/** Rows that are none of the lane's stay through a recopy. */
function isEmptied({ plan }: WorkingLane): boolean {
  return plan.there !== 'add'
}

function targetsOf(lanes: readonly WorkingLane[]): TargetLane[] {
  return lanes.map(({ target }) => target)
}

/** Tells how many rows each batch brings. */
async function* counted<T>(batches: AsyncIterable<T[]>, tell: (rows: number) => void): AsyncGenerator<T[]> {
  for await (const batch of batches) {
    tell(batch.length)
    yield batch
  }
}
