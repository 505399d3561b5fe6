import type { Patience } from '@tide/connectors/contract/source'
import type { PipelineStatus, ShapeStatus } from '@tide/core/api/pipelines'
import type { PipelineState } from '@tide/core/definition/definition'
import type { LogLevel } from '@tide/core/definition/log'
import type { SavedPosition } from '@tide/core/definition/saved-position'
import { sourceOf, type PipelineRecord, type StopReason } from '@tide/core/definition/pipeline'
import { asFailure, type Failure, reportOf } from '@tide/core/failure'
import { backoff } from '@tide/core/pace/backoff'
import type { TideSample } from '@tide/core/pace/tide'
import { Details } from './details.ts'
import { carryOut } from './errands.ts'
import { Faults } from './faults.ts'
import { Meter } from './meter.ts'
import type { EngineParts } from './parts.ts'
import { Runs } from './runs.ts'
import type { LogMore, OpenRun, Run, ShapeRun } from './shapes/shape.ts'
import { shapeOf } from './shapes/shapes.ts'

/** The part of a status that a runner knows. */
export type LiveStatus = Pick<PipelineStatus, 'state' | 'retry' | 'waits'> & ShapeStatus

/** Something else is wanted by now, so that it was not waited for any longer. */
class GaveUp extends Error {}

/** Another engine runs the pipeline by now. */
class Overtaken extends Error {}

/**
 * Runs one pipeline until it is stopped, whatever its shape: what is wanted, retry, errands. One life: `run` once,
 * `interrupt` to end it.
 */
export class Runner implements Run {
  readonly parts: EngineParts
  readonly record: PipelineRecord
  readonly meter: Meter
  readonly runs: Runs
  private readonly holder: string
  private readonly shape: ShapeRun
  private readonly ended = new AbortController()
  /** Aborted whenever what is wanted changes, so that nothing sleeps or copies through it. */
  private turning = new AbortController()
  private wanted: PipelineRecord['wanted']
  state: PipelineState
  private retry: PipelineStatus['retry'] = null
  private waits: PipelineStatus['waits'] = null
  private attempt = 0
  /** What was done before is known to be over. */
  private taken = false
  private readonly faults = new Faults()
  private readonly details: Details

  /** `holder` is the engine's own id, under which it has the lease. */
  constructor(parts: EngineParts, record: PipelineRecord, holder: string) {
    this.parts = parts
    this.holder = holder
    this.record = record
    this.wanted = record.wanted
    this.state = record.state
    this.meter = new Meter(parts.surroundings.now)
    const { definition, id } = record
    this.runs = new Runs(parts, { pipeline: id, from: sourceOf(record), to: definition.to })
    this.details = new Details(parts.history, parts.surroundings, record.detailedUntil)
    this.shape = shapeOf(this)
  }

  /** The number of the plan that is run. */
  get plan(): number {
    return this.record.plan
  }

  want(wanted: PipelineRecord['wanted']): void {
    if (wanted === this.wanted) return
    this.wanted = wanted
    this.turn()
  }

  get ending(): boolean {
    return this.ended.signal.aborted
  }

  get turned(): AbortSignal {
    return this.turning.signal
  }

  turn(): void {
    this.turning.abort()
  }

  /** Ends the run where it stands; everything that has landed is in the checkpoint. */
  interrupt(): void {
    this.ended.abort()
    this.turn()
  }

  /** A record of one of its systems may have changed. */
  nudge(): void {
    this.shape.nudge?.()
  }

  /** A reading for the tide chart; none before it is known what has landed. */
  sample(): TideSample | undefined {
    const { state } = this
    const stands = this.shape.measures && (state === 'Following' || state === 'Copying' || state === 'Paused')
    if (!stands) return undefined
    return this.meter.sample(this.shape.status.lanes.reduce((sum, { copiedRows }) => sum + copiedRows, 0))
  }

  get status(): LiveStatus {
    const { state, waits } = this
    const retry = this.retry ?? (state === 'Following' ? this.shape.retry : null)
    return { state, retry, waits, ...this.shape.status }
  }

  async run(): Promise<void> {
    try {
      await this.live()
    } finally {
      await this.runs.endAll('ended')
      await this.details.end()
    }
  }

  private async live(): Promise<void> {
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

  succeeded(): void {
    if (this.attempt > 0) void this.log('info', `Going on after ${this.attempt} tries.`)
    this.attempt = 0
    this.retry = null
  }

  async setState(state: PipelineState, reason: StopReason | null = null): Promise<void> {
    if (this.state === state && reason === null) return
    const ours = await this.parts.pipelines.setState(this.record.id, this.holder, state, reason)
    if (!ours) throw new Overtaken()
    this.state = state
    if (state === 'Paused') await this.runs.endAll('ended', 'Paused.')
    if (state === 'Finished') await this.runs.endAll('done')
    if (state === 'Stopped' && reason)
      await this.runs.endAll(reason.kind === 'person' ? 'ended' : 'failed', reason.message)
    if (state === 'Paused') await this.keepPosition('pause')
    if (state === 'Stopped') await this.keepPosition('stop', reason?.message)
  }

  /** What is kept for people: when it cannot be written, the pipeline goes on. */
  async keepPosition(kind: SavedPosition['kind'], note?: string): Promise<void> {
    const { standing } = this.shape
    if (!standing) return
    const at = new Date(this.parts.surroundings.now()).toISOString()
    const { positions } = this.parts
    await positions
      .keep({ pipeline: this.record.id, kind, at, ...standing, note: note ?? null })
      .catch(() => {})
  }

  /** The log is for people: when it cannot be written, the pipeline goes on. */
  async log(level: Exclude<LogLevel, 'detail'>, message: string, more: LogMore = {}): Promise<void> {
    await this.parts.history.log({ level, ...this.said(message), ...more }).catch(() => {})
  }

  detail(told: () => { message: string; lanes?: string[] }): void {
    if (!this.details.wanted) return
    const { message, lanes = [] } = told()
    this.details.add({ ...this.said(message), lanes })
  }

  tellDetails(until: string | null): void {
    this.details.tellUntil(until)
  }

  private said(message: string): { pipeline: string; message: string } {
    const { id, origin } = this.record
    return { pipeline: id, message: origin === '' ? message : `${origin}: ${message}` }
  }

  async patiently<T>(work: (patience: Patience) => Promise<T>): Promise<T> {
    const signal = this.turned
    try {
      return await work({ tell: wait => void (this.waits = wait), signal })
    } catch (thrown) {
      throw signal.aborted ? new GaveUp() : thrown
    } finally {
      this.waits = null
    }
  }

  /** Works with open systems; true when the pipeline has come to its end. */
  private async session(): Promise<boolean> {
    this.turning = new AbortController()
    const epoch = await this.parts.pipelines.takeEpoch(this.record.id, this.holder)
    if (epoch === undefined) return true // another engine runs it
    if (!this.taken) await this.parts.runs.cutOff(this.record.id)
    this.taken = true
    const open = await this.shape.open(epoch)
    try {
      if (!this.isWanted('stop')) await open.begin()
      await this.work(open)
      return true
    } finally {
      await open.close()
    }
  }

  /** Does what is wanted, until the pipeline is stopped or this run ends. */
  private async work(open: OpenRun): Promise<void> {
    while (!this.ended.signal.aborted) {
      this.turning = new AbortController()
      if (this.isWanted('stop')) return this.dismantle(open)
      await carryOut(this.parts, this.record.id, this.holder, errand => open.errand(errand))
      if (this.isWanted('pause')) {
        await this.setState('Paused')
        await open.rest(this.turned)
        continue
      }
      const done = await open.step(this.turned)
      if (done === undefined) continue
      // From here on it is only to be taken off its systems, whoever does that in the end.
      await this.setState('Finished')
      await this.log('info', done)
      return this.dismantle(open)
    }
  }

  private async dismantle(open: OpenRun): Promise<void> {
    const done = await open.dismantle()
    if (this.state === 'Finished') return this.parts.pipelines.want(this.record.id, 'pause')
    await this.setState('Stopped', {
      kind: 'person',
      message: 'Stopped by a person; changes are no longer captured at the source.',
      remedy: 'Start again to copy anew and follow.',
      at: new Date(this.parts.surroundings.now()).toISOString(),
    })
    await this.log('info', `Stopped. ${done}`)
  }

  /** False when the store could not keep it; then it is tried again like anything transient. */
  private async stopped(failure: Failure): Promise<boolean> {
    const { message, remedy, kind } = failure
    const { standingSaid } = this
    const at = new Date(this.parts.surroundings.now()).toISOString()
    try {
      await this.setState('Stopped', { kind, message, remedy, at })
    } catch (thrown) {
      return thrown instanceof Overtaken // then it is for the other engine to say how it stands
    }
    await this.log('error', message, { remedy })
    if (kind === 'fault') await this.log('error', `Report: ${standingSaid}\n${reportOf(failure)}`)
    return true
  }

  /** How the run stands, for a report. */
  private get standingSaid(): string {
    const { state, completeUpTo, position, lanes } = this.status
    const copied = lanes.filter(lane => lane.copied).length
    return `${state}, ${copied} of ${lanes.length} lanes copied, at ${position ?? 'no position'}, complete up to ${completeUpTo ?? 'unknown'}`
  }

  private async waitAndRetry({ message, remedy }: Failure): Promise<void> {
    const { now, random, sleep } = this.parts.surroundings
    this.attempt++
    this.runs.retried()
    const wait = backoff(this.attempt, random())
    this.retry = { attempt: this.attempt, message, remedy, nextAt: new Date(now() + wait).toISOString() }
    if (this.attempt === 1) await this.log('warning', message, { remedy })
    this.turning = new AbortController()
    if (!this.ended.signal.aborted) await sleep(wait, this.turned)
  }

  /** Asked anew each time: it changes while we wait for something else. */
  private isWanted(wanted: PipelineRecord['wanted']): boolean {
    return this.wanted === wanted
  }
}
