import type { Checkpoint, SourceSide, TargetSide, Patience } from '@tide/connectors/contract'
import type { LaneStatus, PipelineStatus } from '@tide/core/api/types'
import type { PipelineState } from '@tide/core/definition/definition'
import type { PipelineRecord, StopReason } from '@tide/core/definition/pipeline'
import { asFailure, Failure, reportOf } from '@tide/core/failure'
import { backoff } from '@tide/core/pace/backoff'
import { Rate, secondsLeft } from '@tide/core/pace/rate'
import type { TideSample } from '@tide/core/pace/tide'
import type { PrepareStep } from '@tide/core/plan/plan'
import { datasetId } from '@tide/core/records/dataset'
import { LanesApart } from './apart.ts'
import {
  firstCheckpoint,
  landedChanges,
  lanesApart,
  SharedCheckpoint,
  uncopied,
  withLanes,
} from './checkpoint.ts'
import { copyLanes } from './copy.ts'
import { Faults } from './faults.ts'
import type { FetchRow } from './follow.ts'
import { follow, lanesTogether } from './following.ts'
import { sourceLanesOf, workingLane, type WorkingLane } from './lanes.ts'
import { Meter } from './meter.ts'
import type { OpenPipeline } from './open.ts'
import type { EngineParts } from './parts.ts'

/** The rate of the copy is that of its last seconds. */
const COPY_RATE_OVER_MS = 5_000

/** The part of a status that a runner knows. */
export type LiveStatus = Pick<
  PipelineStatus,
  'state' | 'retry' | 'waits' | 'copiesBeside' | 'completeUpTo' | 'consistent' | 'position' | 'lanes'
>

/** Something else is wanted by now, so that it was not waited for any longer. */
class GaveUp extends Error {}

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
  private waits: PipelineStatus['waits'] = null
  private checkpoint: SharedCheckpoint | undefined
  private copyRates: Rate[] = []
  private rowsThere: (number | null)[]
  private attempt = 0
  private readonly faults = new Faults()
  private copiesBeside = false

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

  get laneCount(): number {
    return this.lanes.length
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
    const checkpoint = this.checkpoint?.now
    return {
      state: this.state,
      retry: this.retry ?? this.sourceRetry,
      waits: this.waits,
      copiesBeside: this.copiesBeside,
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
        if (thrown instanceof GaveUp) continue
        const failure = asFailure(thrown)
        const passes = failure.kind === 'transient' || failure.kind === 'fault'
        const over = !passes || this.faults.isHopeless(failure, this.parts.surroundings.now())
        if (over && (await this.stopped(failure))) return
        await this.waitAndRetry(failure)
      }
    }
  }

  /** Works with open sessions; true when the pipeline has come to its end. */
  private async session(): Promise<boolean> {
    const { connections } = this.parts
    const closing: (() => Promise<void>)[] = []
    this.turned = new AbortController()
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
      if (this.isWanted('stop')) {
        await this.dismantle(source, target)
        return true
      }
      const checkpoint = found
        ? await this.withAllLanes(refuseLater(found, epoch), source, target)
        : await this.beginAnew(source, target, epoch)
      this.copiesBeside = source.beside !== undefined
      this.meter.begin(landedChanges(checkpoint.lanes), source.restMs)
      this.checkpoint = new SharedCheckpoint(checkpoint)
      const fetchRow: FetchRow = ({ source: { dataset, columns, key } }, value) =>
        sourceSession.row(
          { name: dataset, columns: columns.map(column => ({ ...column, name: column.source })), key },
          value,
        )
      const { id } = this.record
      const { lanes, meter } = this
      await this.work({ id, lanes, source, target, checkpoint: this.checkpoint, fetchRow, meter })
      return true
    } finally {
      for (const close of closing) await close().catch(() => {})
    }
  }

  /** Does what is wanted, until the pipeline is stopped or this run ends. */
  private async work(open: OpenPipeline): Promise<void> {
    while (!this.ended.signal.aborted) {
      this.turned = new AbortController()
      if (this.isWanted('stop')) return this.dismantle(open.source, open.target)
      await this.emptyForRecopy(open)
      const { lanes } = open.checkpoint.now
      const uncopied = this.lanes.filter(({ place }) => !lanes[place]!.copied && !lanes[place]!.own)
      if (this.isWanted('pause')) await this.pause(open)
      else if (uncopied.length > 0) {
        await this.setState('Copying')
        await this.copy(open, open.source, uncopied, this.turned.signal)
      } else await this.follow(open)
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
    const tables = this.lanes.map(lane => lane.plan.source)
    const position = await this.patiently(patience => source.startCapture(id, tables, patience))
    const checkpoint = firstCheckpoint(id, epoch, position, this.lanes, this.parts.surroundings.now())
    await target.prepare(this.record.steps, checkpoint)
    await this.log(
      'info',
      `Prepared ${this.lanes.length} tables at the target; changes are captured from ${position.at} on.`,
    )
    return checkpoint
  }

  /** Lanes that were added since the checkpoint was written go their own way first. */
  private async withAllLanes(found: Checkpoint, source: SourceSide, target: TargetSide): Promise<Checkpoint> {
    const added = this.lanes.slice(found.lanes.length)
    if (added.length === 0) return found
    const position = await source.extendCapture!(added.map(lane => lane.plan.source))
    const extended = withLanes(found, added.length, position)
    const made = (step: PrepareStep) =>
      step.step === 'create schema' ||
      added.some(({ plan }) => datasetId(plan.target) === datasetId(step.table))
    await target.extend(this.record.steps.filter(made), extended)
    await this.log(
      'info',
      `Prepared ${added.length} more tables at the target; their changes are captured from ${position.at} on.`,
    )
    return extended
  }

  private async emptyForRecopy({ source, target, checkpoint }: OpenPipeline): Promise<void> {
    const again = [...new Set((await this.parts.pipelines.get(this.record.id))?.recopy ?? [])]
    if (again.length === 0) return
    const tables = again.map(place => this.lanes[place]!.target)
    await checkpoint.commit(
      now => uncopied(now, again, source.beside !== undefined),
      next => target.empty(tables, next),
    )
    await this.parts.pipelines.recopied(this.record.id, again)
  }

  private async copy(
    { target, checkpoint }: OpenPipeline,
    source: SourceSide,
    lanes: readonly WorkingLane[],
    signal: AbortSignal,
  ): Promise<void> {
    const { history, surroundings } = this.parts
    const run = surroundings.newId()
    const { from: fromId, to: toId } = this.record.definition
    const iso = () => new Date(surroundings.now()).toISOString()
    await history.beginRun({ id: run, pipeline: this.record.id, from: fromId, to: toId, startedAt: iso() })
    let [rows, bytes] = [0, 0]
    const began = surroundings.now()
    for (const { place } of lanes) this.copyRates[place] = new Rate(COPY_RATE_OVER_MS, began)
    const view = await this.patiently(patience => source.view(this.record.id, patience))
    try {
      await copyLanes(view, target, lanes, checkpoint, signal, told => {
        this.succeeded()
        rows += told.rows
        bytes += told.bytes
        this.rowsThere[told.place] = checkpoint.now.lanes[told.place]!.copiedRows
        this.copyRates[told.place]!.add(surroundings.now(), told.rows)
      })
    } finally {
      await view.close()
    }
    if (!lanes.every(({ place }) => checkpoint.now.lanes[place]!.copied)) return
    await history.endRun(run, { endedAt: iso(), rows, bytes })
    const seconds = ((surroundings.now() - began) / 1000).toFixed(1)
    await this.log('info', `Copied ${rows.toLocaleString('en')} rows in ${seconds} s.`)
  }

  private async follow(open: OpenPipeline): Promise<void> {
    await this.setState('Following')
    const { signal } = this.turned
    const told = {
      succeeded: () => this.succeeded(),
      counted: (place: number, rows: number) => void (this.rowsThere[place] = rows),
    }
    const own = lanesApart(open.checkpoint.now).length > 0 ? open.source.beside!() : undefined
    const apart = own && new LanesApart(open, own)
    let fault: { thrown: unknown } | undefined
    const others = apart
      ?.run((source, lanes) => this.copy(open, source, lanes, signal), signal)
      .catch((thrown: unknown) => {
        fault = { thrown }
        this.turn()
      })
    try {
      await follow(open, apart, this.parts.surroundings, told, signal)
    } finally {
      this.turn()
      await others
      await apart?.end()
      await own?.close()
    }
    if (fault) throw fault.thrown
  }

  /** Stands still, but goes on measuring how far the source runs ahead. */
  private async pause(open: OpenPipeline): Promise<void> {
    await this.setState('Paused')
    const { sleep } = this.parts.surroundings
    const lanes = sourceLanesOf(lanesTogether(open))
    while (!this.turned.signal.aborted) {
      this.meter.sawHead(await open.source.head(open.id, lanes, open.checkpoint.now.position))
      this.succeeded()
      await sleep(1000, this.turned.signal)
    }
  }

  /** Takes the capture and the checkpoint away; the tables at the target stay. */
  private async dismantle(source: SourceSide, target: TargetSide): Promise<void> {
    await source.stopCapture(this.record.id)
    await target.forget(this.record.id)
    await this.setState('Stopped', {
      kind: 'person',
      message: 'Stopped by a person; changes are no longer captured at the source.',
      remedy: 'Start again to copy anew and follow.',
      at: new Date(this.parts.surroundings.now()).toISOString(),
    })
    await this.log('info', 'Stopped: the capture was removed from the source, the tables at the target stay.')
  }

  /** False when the store could not keep it; then it is tried again like anything transient. */
  private async stopped(failure: Failure): Promise<boolean> {
    const { message, remedy, kind } = failure
    const { standing } = this
    const at = new Date(this.parts.surroundings.now()).toISOString()
    try {
      await this.setState('Stopped', { kind, message, remedy, at })
    } catch (thrown) {
      return thrown instanceof Overtaken // then it is for the other engine to say how it stands
    }
    await this.log('error', message, remedy)
    if (kind === 'fault') await this.log('error', `Report: ${standing}\n${reportOf(failure)}`)
    return true
  }

  /** How the run stands, for a report. */
  private get standing(): string {
    const { state, completeUpTo, position, lanes } = this.status
    const copied = lanes.filter(lane => lane.copied).length
    return `${state}, ${copied} of ${lanes.length} lanes copied, at ${position ?? 'no position'}, complete up to ${completeUpTo ?? 'unknown'}`
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

  /** What `work` waits for is shown for as long as it waits, and until something else is wanted. */
  private async patiently<T>(work: (patience: Patience) => Promise<T>): Promise<T> {
    const { signal } = this.turned
    try {
      return await work({ tell: wait => void (this.waits = wait), signal })
    } catch (thrown) {
      throw signal.aborted ? new GaveUp() : thrown
    } finally {
      this.waits = null
    }
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
    const progress = this.checkpoint?.now.lanes[i]
    const copying = progress?.copied === false && (this.state === 'Copying' || progress.own !== undefined)
    const rate = copying ? (this.copyRates[i]?.perSecond(this.parts.surroundings.now()) ?? 0) : 0
    const copiedRows = progress?.copiedRows ?? 0
    return {
      source: plan.source,
      target: plan.target,
      copied: progress?.copied ?? false,
      apart: progress?.own !== undefined,
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
