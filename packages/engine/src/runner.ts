import type { Checkpoint, Session, SourceSide, TargetSide } from '@tide/connectors/contract'
import type { LaneStatus, PipelineStatus } from '@tide/core/api/types'
import type { PipelineState } from '@tide/core/definition/definition'
import type { PipelineRecord, StopReason } from '@tide/core/definition/pipeline'
import { asFailure, Failure } from '@tide/core/failure'
import { backoff } from '@tide/core/pace/backoff'
import { Rate, secondsLeft } from '@tide/core/pace/rate'
import type { TideSample } from '@tide/core/pace/tide'
import { copyLanes } from './copy.ts'
import { followOnce, type FetchRow } from './follow.ts'
import { firstCheckpoint, landedChanges, uncopied, workingLane, type WorkingLane } from './lanes.ts'
import { Meter } from './meter.ts'
import type { EngineParts } from './parts.ts'

/** How often the source is asked when it was quiet. */
const POLL_MS = 200
/** How often the source may forget, and a quiet checkpoint is written. */
const ACKNOWLEDGE_MS = 2_000
const QUIET_CHECKPOINT_MS = 10_000
/** How often rows at the target are counted; less often where that takes long. */
const COUNT_MS = 2_000
const COUNT_SHARE = 0.02
/** The rate of the copy is that of its last seconds. */
const COPY_RATE_OVER_MS = 5_000

/** The part of a status that a runner knows. */
export type LiveStatus = Pick<
  PipelineStatus,
  'state' | 'retry' | 'completeUpTo' | 'consistent' | 'position' | 'lanes'
>

/** Another engine runs the pipeline by now. */
class Overtaken extends Error {}

/** Runs one pipeline until it is stopped: copy, follow, pause, retry. One life: `run` once, `interrupt` to end it. */
export class Runner {
  readonly meter: Meter
  private readonly parts: EngineParts
  private readonly record: PipelineRecord
  private readonly holder: string
  private readonly lanes: WorkingLane[]
  private readonly ended = new AbortController()
  /** Aborted whenever what is wanted changes, so that nothing sleeps or copies through it. */
  private turned = new AbortController()
  private wanted: PipelineRecord['wanted']
  private state: PipelineState
  private retry: PipelineStatus['retry'] = null
  private checkpoint: Checkpoint | undefined
  private copyRates: Rate[] = []
  private rowsThere: (number | null)[]
  private attempt = 0

  /** `holder` is the engine's own id, under which it has the lease. */
  constructor(parts: EngineParts, record: PipelineRecord, holder: string) {
    this.parts = parts
    this.holder = holder
    this.record = record
    this.wanted = record.wanted
    this.state = record.state
    this.lanes = record.lanes.map(workingLane)
    this.rowsThere = this.lanes.map(() => null)
    this.meter = new Meter(parts.surroundings.now)
  }

  want(wanted: PipelineRecord['wanted']): void {
    if (wanted === this.wanted) return
    this.wanted = wanted
    this.turn()
  }

  /** Lanes were asked to be copied again. */
  lookForRecopy(): void {
    this.turn()
  }

  /** The source's log is being tried again by its journal's keeper. */
  private get sourceRetry(): PipelineStatus['retry'] {
    return this.state === 'Following' ? this.parts.journals.of(this.record.definition.from).retry : null
  }

  /** Ends the run where it stands; everything that has landed is in the checkpoint. */
  interrupt(): void {
    this.ended.abort()
    this.turn()
  }

  /** A reading for the tide chart; none while it copies, or before it is known what has landed. */
  sample(): TideSample | undefined {
    const follows = this.checkpoint && (this.state === 'Following' || this.state === 'Paused')
    return follows ? this.meter.sample() : undefined
  }

  get status(): LiveStatus {
    const { checkpoint } = this
    return {
      state: this.state,
      retry: this.retry ?? this.sourceRetry,
      completeUpTo: checkpoint?.completeUpTo ?? null,
      consistent: checkpoint?.consistent ?? false,
      position: checkpoint?.position.at ?? null,
      lanes: this.lanes.map((lane, i) => this.laneStatus(lane, i)),
    }
  }

  async run(): Promise<void> {
    while (!this.ended.signal.aborted) {
      try {
        if (await this.session()) return
      } catch (thrown) {
        if (this.ended.signal.aborted || thrown instanceof Overtaken) return
        const failure = asFailure(thrown)
        if (failure.kind !== 'transient' && (await this.stopped(failure))) return
        await this.waitAndRetry(failure)
      }
    }
  }

  /** Works with open sessions; true when the pipeline has come to its end. */
  private async session(): Promise<boolean> {
    const { connections } = this.parts
    const closing: (() => Promise<void>)[] = []
    try {
      const open = async (id: string) => {
        const session = await connections.open(id)
        closing.unshift(() => session.close())
        return session
      }
      const { from } = this.record.definition
      const sourceSession = await open(from)
      const journaled = sourceSession.log && this.parts.journals.sourceOf(from, sourceSession.log)
      if (journaled) closing.push(() => journaled.close())
      const source: SourceSide | undefined = journaled ?? sourceSession.source
      const target = (await open(this.record.definition.to)).target
      if (!source || !target) {
        throw new Failure(
          'structural',
          'A connection cannot play its part in this pipeline.',
          'Choose others in the setup.',
        )
      }
      const epoch = await this.parts.pipelines.takeEpoch(this.record.id, this.holder)
      if (epoch === undefined) return true // another engine runs it
      const found = await target.takeCheckpoint(this.record.id, epoch, this.record.freshFrom)
      if (this.isWanted('stop')) return await this.dismantle(source, target)
      let checkpoint = found ? refuseLater(found, epoch) : await this.beginAnew(source, target, epoch)
      this.meter.begin(landedChanges(checkpoint.lanes), source.restMs)
      this.checkpoint = checkpoint
      while (!this.ended.signal.aborted) {
        this.turned = new AbortController()
        if (this.isWanted('stop')) return await this.dismantle(source, target)
        checkpoint = await this.emptyForRecopy(target, checkpoint)
        if (this.isWanted('pause')) await this.pause(source, checkpoint)
        else if (checkpoint.lanes.some(lane => !lane.copied))
          checkpoint = await this.copy(source, target, checkpoint)
        else checkpoint = await this.follow(source, target, checkpoint, sourceSession)
      }
      return true
    } finally {
      for (const close of closing) await close().catch(() => {})
    }
  }

  private async beginAnew(source: SourceSide, target: TargetSide, epoch: number): Promise<Checkpoint> {
    const { id } = this.record
    if (this.state === 'Following' || this.state === 'Paused') {
      throw new Failure(
        'structural',
        'The checkpoint of this pipeline is gone from the target.',
        'Was the target restored or replaced? Put it back and continue, or start again: the tables are copied anew.',
      )
    }
    await this.setState('Copying')
    const position = await source.startCapture(
      id,
      this.lanes.map(lane => lane.plan.source),
    )
    const checkpoint = firstCheckpoint(id, epoch, position, this.lanes, this.parts.surroundings.now())
    await target.prepare(this.record.steps, checkpoint)
    await this.log(
      'info',
      `Prepared ${this.lanes.length} tables at the target; changes are captured from ${position.at} on.`,
    )
    return checkpoint
  }

  private async emptyForRecopy(target: TargetSide, checkpoint: Checkpoint): Promise<Checkpoint> {
    const again = [...new Set((await this.parts.pipelines.get(this.record.id))?.recopy ?? [])]
    if (again.length === 0) return checkpoint
    const lanes = checkpoint.lanes.map((lane, i) => (again.includes(i) ? uncopied(lane) : lane))
    const next = { ...checkpoint, lanes, consistent: false }
    await target.empty(
      again.map(i => this.lanes[i]!.target),
      next,
    )
    this.checkpoint = next
    await this.parts.pipelines.recopied(this.record.id, again)
    return next
  }

  private async copy(source: SourceSide, target: TargetSide, from: Checkpoint): Promise<Checkpoint> {
    await this.setState('Copying')
    const { history, surroundings } = this.parts
    const run = surroundings.newId()
    const { from: fromId, to: toId } = this.record.definition
    const iso = () => new Date(surroundings.now()).toISOString()
    await history.beginRun({ id: run, pipeline: this.record.id, from: fromId, to: toId, startedAt: iso() })
    let [rows, bytes] = [0, 0]
    const began = surroundings.now()
    this.copyRates = this.lanes.map(() => new Rate(COPY_RATE_OVER_MS, began))
    const view = await source.view(this.record.id)
    let checkpoint: Checkpoint
    try {
      checkpoint = await copyLanes(view, target, this.lanes, from, this.turned.signal, told => {
        this.succeeded()
        rows += told.rows
        bytes += told.bytes
        this.checkpoint = told.checkpoint
        this.rowsThere[told.lane] = told.checkpoint.lanes[told.lane]!.copiedRows
        this.copyRates[told.lane]!.add(surroundings.now(), told.rows)
      })
    } finally {
      await view.close()
    }
    if (checkpoint.lanes.every(lane => lane.copied)) {
      await history.endRun(run, { endedAt: iso(), rows, bytes })
      const seconds = ((surroundings.now() - began) / 1000).toFixed(1)
      await this.log('info', `Copied ${rows.toLocaleString('en')} rows in ${seconds} s.`)
    }
    return checkpoint
  }

  private async follow(
    source: SourceSide,
    target: TargetSide,
    from: Checkpoint,
    session: Session,
  ): Promise<Checkpoint> {
    await this.setState('Following')
    const fetchRow: FetchRow = ({ source: { dataset, columns, key } }, value) =>
      session.row(
        { name: dataset, columns: columns.map(column => ({ ...column, name: column.source })), key },
        value,
      )
    const { now, sleep } = this.parts.surroundings
    const { id } = this.record
    let checkpoint = from
    let written = from
    let [acknowledged, countNext, wrote, measured] = [0, 0, now(), 0]
    while (!this.turned.signal.aborted) {
      const landing = await followOnce(id, source, target, this.lanes, checkpoint, fetchRow)
      this.succeeded()
      checkpoint = landing.checkpoint
      this.checkpoint = checkpoint
      if (landing.oldest !== null) {
        written = checkpoint
        wrote = now()
        this.meter.sawHead({ ...landing.head, pendingChanges: landing.head.pendingChanges + landing.changes })
        this.meter.sawLanding(landing.changes, landing.oldest)
      }
      this.meter.sawHead(landing.head)
      // The head of a long backlog stands still while it is worked off; what came since is counted now and then.
      if (landing.head.pendingChanges > 0 && now() - measured > 1000) {
        measured = now()
        this.meter.sawHead(
          await source.head(
            id,
            this.lanes.map(lane => lane.source),
            checkpoint.position,
          ),
        )
      }
      // Others read the checkpoint at the target: that a lane has become consistent is told at once.
      const turnedConsistent = checkpoint.consistent && !written.consistent
      if (turnedConsistent || (checkpoint !== written && now() - wrote > QUIET_CHECKPOINT_MS)) {
        const writing = await target.begin()
        await writing.commit(checkpoint)
        written = checkpoint
        wrote = now()
      }
      if (checkpoint === written && now() - acknowledged > ACKNOWLEDGE_MS) {
        await source.acknowledge(id, written.position)
        acknowledged = now()
      }
      if (now() > countNext) {
        const began = now()
        for (const [i, lane] of this.lanes.entries())
          this.rowsThere[i] = await target.count(lane.target.table)
        countNext = now() + Math.max(COUNT_MS, (now() - began) / COUNT_SHARE)
      }
      if (landing.oldest !== null) continue
      if (source.news) await source.news(POLL_MS, this.turned.signal)
      else await sleep(POLL_MS, this.turned.signal)
    }
    return checkpoint
  }

  /** Stands still, but goes on measuring how far the source runs ahead. */
  private async pause(source: SourceSide, checkpoint: Checkpoint): Promise<void> {
    await this.setState('Paused')
    const { sleep } = this.parts.surroundings
    const lanes = this.lanes.map(lane => lane.source)
    while (!this.turned.signal.aborted) {
      this.meter.sawHead(await source.head(this.record.id, lanes, checkpoint.position))
      this.succeeded()
      await sleep(1000, this.turned.signal)
    }
  }

  /** Takes the capture and the checkpoint away; the tables at the target stay. */
  private async dismantle(source: SourceSide, target: TargetSide): Promise<boolean> {
    await source.stopCapture(this.record.id)
    await target.forget(this.record.id)
    await this.setState('Stopped', {
      kind: 'person',
      message: 'Stopped by a person; changes are no longer captured at the source.',
      remedy: 'Start again to copy anew and follow.',
      at: new Date(this.parts.surroundings.now()).toISOString(),
    })
    await this.log('info', 'Stopped: the capture was removed from the source, the tables at the target stay.')
    return true
  }

  /** False when the store could not keep it; then it is tried again like anything transient. */
  private async stopped({ message, remedy, kind }: Failure): Promise<boolean> {
    const at = new Date(this.parts.surroundings.now()).toISOString()
    try {
      await this.setState('Stopped', { kind, message, remedy, at })
    } catch (thrown) {
      return thrown instanceof Overtaken // then it is for the other engine to say how it stands
    }
    await this.log('error', message, remedy)
    return true
  }

  private async waitAndRetry({ message, remedy }: Failure): Promise<void> {
    const { now, random, sleep } = this.parts.surroundings
    this.attempt++
    const wait = backoff(this.attempt, random())
    this.retry = { attempt: this.attempt, message, remedy, nextAt: new Date(now() + wait).toISOString() }
    if (this.attempt === 1) await this.log('warning', message, remedy)
    this.turned = new AbortController()
    if (!this.ended.signal.aborted) await sleep(wait, this.turned.signal)
  }

  private succeeded(): void {
    if (this.attempt > 0) void this.log('info', `Going on after ${this.attempt} tries.`)
    this.attempt = 0
    this.retry = null
  }

  private async setState(state: PipelineState, reason: StopReason | null = null): Promise<void> {
    if (this.state === state && reason === null) return
    const ours = await this.parts.pipelines.setState(this.record.id, this.holder, state, reason)
    if (!ours) throw new Overtaken()
    this.state = state
  }

  /** The log is for people: when it cannot be written, the pipeline goes on. */
  private async log(level: 'info' | 'warning' | 'error', message: string, remedy?: string): Promise<void> {
    const entry = { level, pipeline: this.record.id, message, remedy: remedy ?? null }
    await this.parts.history.log(entry).catch(() => {})
  }

  /** Asked anew each time: it changes while we wait for something else. */
  private isWanted(wanted: PipelineRecord['wanted']): boolean {
    return this.wanted === wanted
  }

  private turn(): void {
    this.turned.abort()
  }

  private laneStatus({ plan }: WorkingLane, i: number): LaneStatus {
    const progress = this.checkpoint?.lanes[i]
    const copying = this.state === 'Copying' && progress?.copied === false
    const rate = copying ? (this.copyRates[i]?.perSecond(this.parts.surroundings.now()) ?? 0) : 0
    const copiedRows = progress?.copiedRows ?? 0
    return {
      source: plan.source,
      target: plan.target,
      copied: progress?.copied ?? false,
      copiedRows,
      plannedRows: plan.rows,
      rowsPerSecond: rate,
      secondsLeft: progress?.copied ? 0 : secondsLeft(Math.max(0, plan.rows - copiedRows), rate),
      inserted: progress?.inserted ?? 0,
      updated: progress?.updated ?? 0,
      deleted: progress?.deleted ?? 0,
      rowsThere: this.rowsThere[i] ?? null,
      lastChange: progress?.lastChange ?? null,
    }
  }
}

function refuseLater(found: Checkpoint, epoch: number): Checkpoint {
  if (found.epoch <= epoch) return found
  throw new Failure(
    'structural',
    'The target’s checkpoint was written by a later engine.',
    'Continue where that engine runs.',
  )
}
