import type { PipelineStatus } from '@tide/core/api/types'
import type { Definition } from '@tide/core/definition/definition'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import { depthStrip, type TideSample } from '@tide/core/pace/tide'
import type { Lane, PrepareStep } from '@tide/core/plan/plan'
import { printName } from '@tide/core/records/dataset'
import type { EngineParts } from './parts.ts'
import { Runner } from './runner.ts'

const SAMPLE_MS = 1_000
const STRIP_MINUTES = 60

interface Kept {
  runner: Runner | undefined
  running: Promise<void> | undefined
  /** One reading a minute for the depth strip, and the readings of the minute under way. */
  minutes: TideSample[]
  sample: TideSample | null
}

/** Runs all pipelines of this process, samples their figures, and carries out what people ask of them. */
export class Engine {
  private readonly parts: EngineParts
  private readonly kept = new Map<string, Kept>()
  private readonly listeners = new Set<() => void>()
  private readonly ended = new AbortController()
  private sampling: Promise<void> | undefined
  private readonly deeds = new Map<string, Promise<unknown>>()

  constructor(parts: EngineParts) {
    this.parts = parts
  }

  /** Takes up every pipeline where it was. */
  async start(): Promise<void> {
    const since = this.parts.surroundings.now() - STRIP_MINUTES * 60_000
    for (const record of await this.parts.pipelines.list()) {
      const kept = this.keep(record.id)
      kept.minutes = await this.parts.history.figures(record.id, 60, since)
      const unfinishedStop =
        record.state === 'Stopped' && record.wanted === 'stop' && record.reason?.kind !== 'person'
      if (['Copying', 'Following', 'Paused'].includes(record.state) || unfinishedStop) this.launch(record)
    }
    this.sampling = this.sampleUntilEnded()
  }

  /** Ends every run where it stands and waits for it. */
  async stop(): Promise<void> {
    this.ended.abort()
    for (const { runner } of this.kept.values()) runner?.interrupt()
    await Promise.all([...this.kept.values()].map(({ running }) => running))
    await this.sampling
    await this.parts.journals.close()
  }

  /** Called after every reading and every change of state; returns how to leave. */
  onChange(listener: () => void): () => void {
    this.listeners.add(listener)
    return () => this.listeners.delete(listener)
  }

  async statuses(): Promise<PipelineStatus[]> {
    const records = await this.parts.pipelines.list()
    return Promise.all(records.map(record => this.statusOf(record)))
  }

  async status(id: string): Promise<PipelineStatus> {
    return this.statusOf(await this.record(id))
  }

  /**
   * What people do to one thing is done one after another, so that each deed sees what the one before has done.
   * `what` is a pipeline's id, or `start` for what must be alone among all starts.
   */
  inTurn<T>(what: string, deed: () => Promise<T>): Promise<T> {
    const done = (this.deeds.get(what) ?? Promise.resolve()).then(deed)
    this.deeds.set(
      what,
      done.catch(() => {}), // the one who asked hears of it
    )
    return done
  }

  /** Starts a pipeline by its plan, which must hold no refusal. */
  async begin(id: string, plan: { lanes: Lane[]; steps: PrepareStep[] }): Promise<void> {
    const record = await this.record(id)
    if (!['Draft', 'Ready', 'Stopped'].includes(record.state)) {
      throw new Failure('refused', `“${record.definition.name}” runs already.`, 'Stop it first.')
    }
    await this.halt(id)
    await this.parts.pipelines.start(id, plan, new Date(this.parts.surroundings.now()).toISOString())
    await this.say(id, `Started, ${plan.lanes.length} tables.`)
    this.launch(await this.record(id))
    this.changed()
  }

  async pause(id: string): Promise<void> {
    await this.want(id, 'pause', ['Copying', 'Following'], 'Paused.')
  }

  /** Goes on after a pause, or after a stop whose reason is out of the way. */
  async continue(id: string): Promise<void> {
    const record = await this.record(id)
    if (record.state === 'Stopped' && record.reason?.kind !== 'person') {
      await this.halt(id)
      await this.parts.pipelines.want(id, 'run')
      // The runner finds out whether the copy was complete.
      await this.parts.pipelines.setState(id, 'Copying', null)
      await this.say(id, 'Continued.')
      this.launch(await this.record(id))
      return this.changed()
    }
    await this.want(id, 'run', ['Paused', 'Copying', 'Following'], 'Continued.')
  }

  /** Stops for good: the capture goes from the source, the tables stay at the target. */
  async end(id: string): Promise<void> {
    const record = await this.record(id)
    if (record.state === 'Stopped' && record.reason?.kind !== 'person') {
      await this.halt(id)
      await this.parts.pipelines.want(id, 'stop')
      this.launch(await this.record(id))
      return this.changed()
    }
    await this.want(id, 'stop', ['Copying', 'Following', 'Paused'], 'Stop asked for.')
  }

  /** Empties the tables of these lanes (all, when none is named) and copies them again. */
  async recopy(id: string, lanes: number[]): Promise<void> {
    const record = await this.record(id)
    const { runner } = this.keep(id)
    if (!runner || record.state !== 'Following') {
      throw new Failure(
        'refused',
        `“${record.definition.name}” is ${record.state.toLowerCase()}.`,
        'Only a following pipeline can recopy.',
      )
    }
    const chosen = lanes.length > 0 ? lanes : record.lanes.map((_, i) => i)
    const unknown = chosen.find(i => !record.lanes[i])
    if (unknown !== undefined)
      throw new Failure('refused', `There is no lane ${unknown}.`, 'Name one of the lanes.')
    await this.say(id, `Recopy of ${chosen.map(i => printName(record.lanes[i]!.source)).join(', ')}.`)
    runner.recopy(chosen)
    this.changed()
  }

  /** Waits until nothing of the pipeline runs any more. */
  async halt(id: string): Promise<void> {
    const kept = this.kept.get(id)
    kept?.runner?.interrupt()
    await kept?.running
    if (kept) kept.runner = undefined
  }

  forget(id: string): void {
    this.kept.delete(id)
    this.deeds.delete(id)
    this.changed()
  }

  private async want(
    id: string,
    wanted: PipelineRecord['wanted'],
    from: PipelineRecord['state'][],
    said: string,
  ): Promise<void> {
    const record = await this.record(id)
    if (!from.includes(record.state)) {
      throw new Failure(
        'refused',
        `“${record.definition.name}” is ${record.state.toLowerCase()}.`,
        'Look at its state again.',
      )
    }
    await this.parts.pipelines.want(id, wanted)
    await this.say(id, said)
    this.keep(id).runner?.want(wanted)
    this.changed()
  }

  private launch(record: PipelineRecord): void {
    const kept = this.keep(record.id)
    const runner = new Runner(this.parts, record)
    kept.runner = runner
    kept.running = runner.run().then(() => this.changed())
  }

  private keep(id: string): Kept {
    let kept = this.kept.get(id)
    if (!kept)
      this.kept.set(id, (kept = { runner: undefined, running: undefined, minutes: [], sample: null }))
    return kept
  }

  private async record(id: string): Promise<PipelineRecord> {
    const record = await this.parts.pipelines.get(id)
    if (!record)
      throw new Failure('refused', `There is no pipeline ${id}.`, 'Look at the list of pipelines again.')
    return record
  }

  private async statusOf(record: PipelineRecord): Promise<PipelineStatus> {
    const kept = this.keep(record.id)
    const { runner } = kept
    const live = runner?.status
    const running = live && live.state !== 'Stopped'
    const { now } = this.parts.surroundings
    return {
      id: record.id,
      definition: record.definition,
      ...(await this.names(record.definition)),
      wanted: record.wanted,
      startedAt: record.startedAt,
      retry: live?.retry ?? null,
      state: live?.state ?? record.state,
      reason: running ? null : record.reason,
      completeUpTo: live?.completeUpTo ?? null,
      consistent: live?.consistent ?? false,
      position: live?.position ?? null,
      lanes: live?.lanes ?? idleLanes(record),
      lagSeconds: running && live.state !== 'Copying' ? runner!.meter.lag : null,
      backlog: running ? runner!.meter.backlog : null,
      committedPerMinute: running ? runner!.meter.committedPerMinute : 0,
      landedPerMinute: running ? runner!.meter.landedPerMinute : 0,
      landed: runner?.meter.landed ?? 0,
      strip: depthStrip(kept.minutes, now(), STRIP_MINUTES),
      sample: kept.sample,
    }
  }

  private async names({ from, to }: Definition): Promise<{ fromName: string; toName: string }> {
    const [source, target] = await Promise.all([
      this.parts.connections.describe(from),
      this.parts.connections.describe(to),
    ])
    return { fromName: source?.name ?? '', toName: target?.name ?? '' }
  }

  private async sampleUntilEnded(): Promise<void> {
    const { now, sleep } = this.parts.surroundings
    let minute = Math.floor(now() / 60_000)
    while (!this.ended.signal.aborted) {
      await sleep(SAMPLE_MS - (now() % SAMPLE_MS), this.ended.signal)
      const seconds: ({ pipeline: string } & TideSample)[] = []
      for (const [pipeline, kept] of this.kept) {
        const sample = kept.runner?.sample()
        if (!sample) continue
        kept.sample = sample
        kept.minutes = withMinute(kept.minutes, sample)
        seconds.push({ pipeline, ...sample })
      }
      this.changed()
      // Figures are for show: when the store cannot take them, the pipelines go on.
      await this.parts.history.addFigures(1, seconds).catch(() => {})
      if (Math.floor(now() / 60_000) === minute) continue
      const over = minute * 60_000
      minute = Math.floor(now() / 60_000)
      await this.writeMinute(over).catch(() => {})
    }
  }

  private async writeMinute(at: number): Promise<void> {
    const rows = [...this.kept].flatMap(([pipeline, { minutes }]) => {
      const reading = minutes.find(sample => sample.at === at)
      return reading ? [{ pipeline, ...reading }] : []
    })
    await this.parts.history.addFigures(60, rows)
    await this.parts.history.trimFigures(this.parts.surroundings.now())
  }

  private say(pipeline: string, message: string): Promise<void> {
    return this.parts.history.log({ level: 'info', pipeline, message, byPerson: true })
  }

  private changed(): void {
    for (const listener of this.listeners) listener()
  }
}

/** Folds a reading into its minute: the newest totals, the greatest lag. */
function withMinute(minutes: readonly TideSample[], sample: TideSample): TideSample[] {
  const at = Math.floor(sample.at / 60_000) * 60_000
  const last = minutes.at(-1)
  if (last?.at !== at) return [...minutes.slice(-STRIP_MINUTES), { ...sample, at }]
  const lag = last.lag === null ? sample.lag : sample.lag === null ? last.lag : Math.max(last.lag, sample.lag)
  return [...minutes.slice(0, -1), { ...sample, at, lag }]
}

function idleLanes(record: PipelineRecord): PipelineStatus['lanes'] {
  return record.lanes.map(lane => ({
    source: lane.source,
    target: lane.target,
    copied: false,
    copiedRows: 0,
    plannedRows: lane.rows,
    rowsPerSecond: 0,
    secondsLeft: null,
    inserted: 0,
    updated: 0,
    deleted: 0,
    rowsThere: null,
    lastChange: null,
  }))
}
