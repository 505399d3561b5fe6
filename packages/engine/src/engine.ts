import type { EngineInfo } from '@tide/core/api/engines'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import {
  runsOf,
  type Affinity,
  type ChangedPlan,
  type EngineRecord,
  type PipelineRecord,
  type PipelineWork,
  type StartedPlan,
} from '@tide/core/definition/pipeline'
import { originsOf } from '@tide/core/definition/origins'
import { isChangeable } from '@tide/core/definition/definition'
import { Failure } from '@tide/core/failure'
import { Turns } from '@tide/core/pace/turns'
import type { Lane } from '@tide/core/plan/lane'
import type { PrepareStep } from '@tide/core/plan/steps'
import { datasetId } from '@tide/core/records/dataset'
import { Deeds } from './deeds.ts'
import { STRIP_MINUTES, type Kept } from './kept.ts'
import { changeFailed, printChange, refuseUnready, withMore } from './changing.ts'
import type { EngineParts } from './parts.ts'
import { mustRun, shareOf, worthTaking } from './share.ts'
import { Runner } from './runner.ts'
import { sampleUntil } from './sampling.ts'
import { statusOf } from './status.ts'
import { statusesOf } from './statuses.ts'

/** How often engines say that they are there, and look for work. */
const LOOK_MS = 1_000
/** How long held records stay to be read about once they are closed. */
const CLOSED_HELD_MS = 90 * 86_400_000

/**
 * Runs pipelines, samples their figures, and carries out what people ask of them. What is asked goes to the store, and
 * whichever engine holds the pipeline's lease acts on it: with the embedded store that is always this one.
 */
export class Engine {
  private readonly parts: EngineParts
  private readonly kept = new Map<string, Kept>()
  private readonly listeners = new Set<() => void>()
  private readonly ended = new AbortController()
  private sampling: Promise<void> | undefined
  private readonly turns = new Map<string, Promise<unknown>>()
  private readonly me: Pick<EngineRecord, 'id' | 'name' | 'home'>
  private readonly looks = new Turns()
  private looking: Promise<void> | undefined
  private tidying: Promise<void> | undefined
  /** As of the last look. */
  private engineRecords: EngineRecord[] = []
  readonly deeds: Deeds

  constructor(parts: EngineParts) {
    this.parts = parts
    this.deeds = new Deeds(parts, {
      record: id => this.record(id),
      look: () => this.look(),
      say: (pipeline, message) => this.say(pipeline, message),
      takeUp: run => this.takeUpOne(run, 'run'),
    })
    const { name, home } = parts
    this.me = { id: parts.surroundings.newId(), name, home }
  }

  /** Of this process, for as long as it lives. */
  get id(): string {
    return this.me.id
  }

  /** Takes up every pipeline that this engine may run. */
  async start(): Promise<void> {
    await this.parts.leases.begin(this.me)
    await this.look()
    this.sampling = sampleUntil(this.ended.signal, this.kept, this.parts, () => this.changed())
    this.looking = this.lookUntilEnded()
  }

  /** Ends every run where it stands and waits for it. */
  async stop(): Promise<void> {
    this.ended.abort()
    await this.looking
    for (const { runner } of this.kept.values()) runner?.interrupt()
    await Promise.all([...this.kept.values()].map(({ running }) => running))
    await this.sampling
    await this.tidying
    // When the store is away, the leases run out by themselves.
    await this.parts.leases.leave(this.me.id).catch(() => {})
    await this.parts.journals.close()
  }

  /** A record of a pipeline's systems may have changed, as one of them says; nothing where another engine runs it: that one asks by itself. */
  nudge(id: string): void {
    this.kept.get(id)?.runner?.nudge()
  }

  /** Called after every reading and every change of state; returns how to leave. */
  onChange(listener: () => void): () => void {
    this.listeners.add(listener)
    return () => this.listeners.delete(listener)
  }

  async statuses(): Promise<PipelineStatus[]> {
    return this.statusesOf(await this.parts.pipelines.list())
  }

  async status(id: string): Promise<PipelineStatus> {
    const [status] = await this.statusesOf([await this.record(id)])
    return status!
  }

  /**
   * What people do to one thing is done one after another, so that each deed sees what the one before has done.
   * `what` is a pipeline's id, or `start` for what must be alone among all starts.
   */
  inTurn<T>(what: string, deed: () => Promise<T>): Promise<T> {
    const done = (this.turns.get(what) ?? Promise.resolve()).then(deed)
    const over = done.then(
      () => {},
      () => {}, // the one who asked hears of it
    )
    this.turns.set(what, over)
    void over.then(() => this.turns.get(what) === over && this.turns.delete(what))
    return done
  }

  /**
   * Starts a pipeline by its plan, which must hold no refusal, and the definition that the plan was made of. `ties`: by
   * origin, what ties it to one data folder.
   */
  async begin(id: string, plan: StartedPlan, ties: readonly (Affinity | null)[] = []): Promise<void> {
    const record = await this.record(id)
    if (!isChangeable(record.state)) {
      throw new Failure('refused', `“${record.definition.name}” runs already.`, 'Stop it first.')
    }
    await this.halt(id)
    const at = new Date(this.parts.surroundings.now()).toISOString()
    const several = originsOf(plan.definition).length > 1
    const started = several
      ? await this.startOrigins(id, plan, at, ties)
      : await this.parts.pipelines.start(id, plan, at, ties[0] ?? null)
    if (!started) {
      throw new Failure(
        'refused',
        `The setup of “${record.definition.name}” was changed while it was to be started.`,
        'Look at its plan again, and start it.',
      )
    }
    await this.say(id, `Started, ${tablesOf(plan.lanes)}.`)
    await this.look()
  }

  /** Copies an origin anew that was stopped for good, while the others go on. */
  async beginAgain(id: string, tie: Affinity | null): Promise<void> {
    const { origin, state } = await this.record(id)
    await this.halt(id)
    const at = new Date(this.parts.surroundings.now()).toISOString()
    if (!(await this.parts.pipelines.startAgain(id, at, tie)))
      throw new Failure('refused', `${origin} is ${state.toLowerCase()}.`, 'Stop it first, or recopy it.')
    await this.say(id, `${origin}: Started again; its rows are copied anew.`)
    await this.look()
  }

  /** The tables are made for all origins before the first of them runs. */
  private async startOrigins(
    id: string,
    plan: StartedPlan,
    at: string,
    ties: readonly (Affinity | null)[],
  ): Promise<boolean> {
    const { pipelines, surroundings } = this.parts
    if (!(await pipelines.own(id, plan))) return false
    await this.make(id, plan)
    return pipelines.startOrigins(id, plan, at, ties, surroundings.newId)
  }

  private async make(
    id: string,
    { definition, steps }: Pick<StartedPlan, 'definition' | 'steps'>,
  ): Promise<void> {
    const session = await this.parts.connections.open(definition.to)
    try {
      await session.target!.make(id, steps)
    } finally {
      await session.close()
    }
  }

  /** Adds tables to a pipeline that runs, by a plan for them alone, which must hold no refusal. */
  async extend(id: string, plan: { lanes: Lane[]; steps: PrepareStep[] }): Promise<void> {
    await this.change(id, withMore(await this.record(id), plan))
  }

  /**
   * Gives a pipeline that runs another plan, which must hold no refusal and be made of the lanes that it has now. `ties`: by
   * origin, what ties it to one data folder.
   */
  async change(id: string, plan: ChangedPlan, ties: readonly (Affinity | null)[] = []): Promise<void> {
    const record = await this.record(id)
    await refuseUnready(this.parts, record, plan.change, this.me.id)
    const { pipelines, surroundings } = this.parts
    // No origin is launched while another still writes by the plan of before.
    await this.looks.run(async () => {
      const at = new Date(surroundings.now()).toISOString()
      if (!(await pipelines.change(id, record.plan, plan, at, ties, surroundings.newId)))
        throw changeFailed(record)
      await this.halt(id)
    })
    await this.say(id, printChange(plan))
    await this.look()
  }

  async pause(id: string): Promise<void> {
    await this.want(id, 'pause', ['Copying', 'Following', 'Waiting', 'Sending'], 'Paused.')
  }

  /** Goes on after a pause, or after a stop whose reason is out of the way. */
  async continue(id: string): Promise<void> {
    if (await this.takeUp(id, 'run')) return this.say(id, 'Continued.')
    await this.want(id, 'run', ['Paused', 'Copying', 'Following', 'Waiting', 'Sending'], 'Continued.')
  }

  /** Stops for good: the capture goes from the source, the tables stay at the target. */
  async end(id: string): Promise<void> {
    const takenUp = await this.takeUp(id, 'stop')
    const { state } = await this.record(id)
    if (takenUp && state === 'Stopped') return
    await this.want(id, 'stop', ['Copying', 'Following', 'Waiting', 'Sending', 'Paused'], 'Stop asked for.')
  }

  /** What has stopped for a reason, origin by origin, goes on, or is stopped for good; false when nothing had. */
  private async takeUp(id: string, wanted: 'run' | 'stop'): Promise<boolean> {
    const stopped = runsOf(await this.record(id)).filter(
      ({ state, reason }) => state === 'Stopped' && reason?.kind !== 'person',
    )
    for (const run of stopped) await this.takeUpOne(run.id, wanted)
    if (stopped.length > 0) await this.look()
    return stopped.length > 0
  }

  private async takeUpOne(run: string, wanted: 'run' | 'stop'): Promise<void> {
    await this.halt(run)
    await this.parts.pipelines.takeUp(run, wanted)
  }

  /** It is run by this very process now, or an origin of it is. */
  runs(record: PipelineRecord): boolean {
    return runsOf(record).some(({ id }) => this.kept.get(id)?.running !== undefined)
  }

  /** Waits until nothing of the pipeline runs here any more. */
  async halt(id: string): Promise<void> {
    const record = await this.parts.pipelines.get(id)
    for (const run of [id, ...(record?.origins ?? []).map(origin => origin.id)]) {
      const kept = this.kept.get(run)
      kept?.runner?.interrupt()
      await kept?.running
    }
  }

  async engines(): Promise<EngineInfo[]> {
    const [engines, work] = await Promise.all([this.parts.leases.engines(), this.parts.leases.work()])
    return engines.map(({ id, name, live, startedAt, seenAt }) => ({
      id,
      name,
      here: id === this.me.id,
      live,
      startedAt,
      seenAt,
      pipelines: work.filter(({ holder, free }) => holder === id && !free).length,
    }))
  }

  forget(id: string): void {
    this.kept.delete(id)
    this.turns.delete(id)
    this.changed()
  }

  private async want(
    id: string,
    wanted: PipelineRecord['wanted'],
    from: PipelineRecord['state'][],
    said: string,
  ): Promise<void> {
    const record = await this.record(id)
    const runs = runsOf(record).filter(({ state }) => from.includes(state))
    if (runs.length === 0) {
      throw new Failure(
        'refused',
        `“${record.definition.name}” is ${record.state.toLowerCase()}.`,
        'Look at its state again.',
      )
    }
    for (const run of runs) await this.parts.pipelines.want(run.id, wanted)
    await this.say(id, record.origin === '' ? said : `${record.origin}: ${said}`)
    await this.look()
  }

  /** Looks for what there is to do, once; also after people have asked for something. */
  private look(): Promise<void> {
    return this.looks.run(async () => {
      if (this.ended.signal.aborted) return
      const { leases, journals } = this.parts
      await leases.beat(this.me)
      const [all, engines] = await Promise.all([leases.work(), leases.engines()])
      this.engineRecords = engines
      await this.tend(all)
      const idle = all.filter(({ id }) => !this.kept.get(id)?.running)
      for (const one of worthTaking(idle, all, this.me, this.engineRecords)) {
        if (await leases.take(one.id, this.me.id)) await this.launch(one.id)
      }
      // It may have to wait for a source; then it is looked at again when it is done.
      this.tidying ??= journals
        .keepOnly(new Set(all.map(({ id }) => id)))
        .catch(() => {})
        .then(() => void (this.tidying = undefined))
      if (this.others) await this.tellOthers()
      this.changed()
    })
  }

  /** What this engine has: ended, told of what is wanted, given back, or seen to be another's by now. */
  private async tend(all: readonly PipelineWork[]): Promise<void> {
    const over: string[] = []
    const mine = all.filter(({ holder }) => holder === this.me.id)
    for (const work of mine) {
      const kept = this.keep(work.id)
      if (kept.giving) {
        if (kept.running) continue
        kept.giving = false
        over.push(work.id)
      } else if (kept.running) {
        kept.runner!.want(work.wanted)
        kept.runner!.tellDetails(work.detailedUntil)
        if (work.plan !== kept.runner!.plan) kept.runner!.interrupt() // the next one has the new one
        const asked = work.errands.join()
        if (asked !== '' && asked !== kept.errandsTold) kept.runner!.turn()
        kept.errandsTold = asked
      } else if (mustRun(work)) await this.launch(work.id)
      else over.push(work.id)
    }
    const held = new Set(mine.map(({ id }) => id))
    for (const [id, kept] of this.kept) {
      if (held.has(id)) continue
      kept.runner?.interrupt()
      if (!kept.running && all.some(({ id: other, holder }) => other === id && holder !== null))
        kept.runner = undefined
    }
    await this.parts.leases.release(over, this.me.id)
    this.giveSurplus(all, mine)
  }

  /**
   * Begins to end one of those that others could run, when this engine has more than its share. Nobody waits for it
   * here: who looks must go on saying that the engine is there.
   */
  private giveSurplus(all: readonly PipelineWork[], mine: readonly PipelineWork[]): void {
    const movable = mine.map(work => ({ work, kept: this.keep(work.id) }))
    if (movable.some(({ kept }) => kept.giving)) return
    const running = movable.filter(({ work, kept }) => work.home === null && kept.running)
    if (running.length <= shareOf(all, this.me, this.engineRecords)) return
    const { kept } = running.at(-1)!
    kept.giving = true
    kept.runner!.interrupt()
  }

  private async tellOthers(): Promise<void> {
    const here = [...this.kept].flatMap(([id, { running }]) => (running ? [id] : []))
    const records = await Promise.all(here.map(id => this.parts.pipelines.get(id)))
    const statuses = records.flatMap(record =>
      record ? [statusOf(record, this.keep(record.id), this.parts)] : [],
    )
    await this.parts.leases.tell(await Promise.all(statuses))
  }

  private async launch(id: string): Promise<void> {
    const record = await this.parts.pipelines.get(id)
    if (!record) return
    const kept = this.keep(id)
    const since = this.parts.surroundings.now() - STRIP_MINUTES * 60_000
    if (!kept.runner) kept.minutes = await this.parts.history.figures(id, 60, since)
    const runner = new Runner(this.parts, record, this.me.id)
    kept.runner = runner
    kept.running = runner.run().then(() => {
      kept.running = undefined
      this.changed()
    })
  }

  private keep(id: string): Kept {
    let kept = this.kept.get(id)
    if (!kept) {
      kept = {
        runner: undefined,
        running: undefined,
        giving: false,
        errandsTold: '',
        minutes: [],
        lanesTold: new Map(),
        sample: null,
      }
      this.kept.set(id, kept)
    }
    return kept
  }

  private async lookUntilEnded(): Promise<void> {
    const { sleep, now } = this.parts.surroundings
    let tidied = now()
    while (!this.ended.signal.aborted) {
      await sleep(LOOK_MS, this.ended.signal)
      try {
        await this.look()
        if (now() - tidied < 60_000) continue
        tidied = now()
        await this.parts.leases.forgetGone()
        await this.parts.held.trim(new Date(now() - CLOSED_HELD_MS).toISOString())
        await this.parts.history.trimLog(now())
        await this.parts.runs.trim(now())
      } catch {
        // The store is away: the pipelines go on. Whoever takes one over meanwhile is protected by its epoch.
      }
    }
  }

  private async record(id: string): Promise<PipelineRecord> {
    const record = await this.parts.pipelines.get(id)
    if (!record)
      throw new Failure('refused', `There is no pipeline ${id}.`, 'Look at the list of pipelines again.')
    return record
  }

  private statusesOf(records: readonly PipelineRecord[]): Promise<PipelineStatus[]> {
    const engines = { me: this.me, all: this.engineRecords }
    return statusesOf(records, engines, id => this.keep(id), this.parts)
  }

  private get others(): boolean {
    return this.engineRecords.some(({ id, live }) => live && id !== this.me.id)
  }

  private say(pipeline: string, message: string): Promise<void> {
    return this.parts.history.log({ level: 'info', pipeline, message, byPerson: true })
  }

  private changed(): void {
    for (const listener of this.listeners) listener()
  }
}

function tablesOf(lanes: readonly Lane[]): string {
  const tables = new Set(lanes.map(({ source }) => datasetId(source))).size
  const origins = new Set(lanes.map(({ origin }) => origin)).size
  return `${tables} tables${origins > 1 ? ` of ${origins} origins` : ''}`
}
