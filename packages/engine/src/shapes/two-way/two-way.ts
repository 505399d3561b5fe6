/** A pipeline that keeps two places in step: pass after pass over its lanes, and what people ask of its pairs in between. */
import type { PlaceSide } from '@tide/connectors/contract/app'
import type { ShapeStatus } from '@tide/core/api/pipelines'
import type { SideCounts, TwoWayStatus } from '@tide/core/api/two-way'
import { LostLately } from '@tide/core/apply/lost-lately'
import type { Errand } from '@tide/core/definition/errand'
import {
  EVERY_SECONDS,
  GONE_GUARD,
  SWEEP_MINUTES,
  type TwoWayDefinition,
} from '@tide/core/definition/two-way'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import { Failure } from '@tide/core/failure'
import type { Side } from '@tide/core/merge/rule'
import type { LaneProgress } from '@tide/core/two-way/commit'
import type { TwoWayIntent } from '@tide/core/two-way/intent'
import { SIDES, type CompiledLane } from '@tide/core/two-way/lane'
import type { OpenRun, ShapeRun, TwoWayRun } from '../shape.ts'
import { carryOutDeed } from './deeds.ts'
import { sweepLane } from './gone.ts'
import { digestOf, mergeAll, passLane } from './pass.ts'
import { keepPoint, restore, type Keeping } from './restore-points.ts'
import { Hooks } from './hooks.ts'
import { noSide, placesOf, sideOf, type Places } from './places.ts'
import { settleIntents } from './settle.ts'
import type { Writing } from './writing.ts'

/** What outlives the sessions of a run. */
interface Known {
  status: TwoWayStatus
  /** Milliseconds; everything that had changed by then is on the other side, or held. */
  completeUpTo: number | null
  /** An app says that something has changed; it is looked before the time. */
  nudged: boolean
  wake: (() => void) | undefined
  /** By side and lane. */
  lost: LostLately<string>
}

/** Between the beginnings of two passes that apps have asked for. */
const NUDGED_MS = 500

const nothing = (): SideCounts => ({ created: 0, changed: 0, deleted: 0 })

export class TwoWay implements ShapeRun {
  private readonly run: TwoWayRun
  private readonly known: Known
  readonly measures = false
  readonly standing = undefined
  readonly retry = null

  constructor(run: TwoWayRun) {
    this.run = run
    this.known = {
      completeUpTo: null,
      lost: new LostLately(run.parts.surroundings.now),
      nudged: false,
      wake: undefined,
      status: {
        doing: null,
        last: null,
        pairs: null,
        asleep: null,
        held: null,
        waiting: null,
        done: { a: nothing(), b: nothing() },
      },
    }
  }

  get status(): ShapeStatus {
    const { completeUpTo, status } = this.known
    return {
      completeUpTo: completeUpTo === null ? null : new Date(completeUpTo).toISOString(),
      consistent: false,
      position: null,
      lanes: [],
      twoWay: status,
    }
  }

  nudge(): void {
    this.known.nudged = true
    this.known.wake?.()
  }

  async open(epoch: number): Promise<OpenRun> {
    const { record, parts } = this.run
    const opened: { close?(): Promise<void> }[] = []
    const close = async () => {
      for (const one of opened.toReversed()) await one.close?.().catch(() => {})
    }
    try {
      const sideAt = async (connection: string): Promise<PlaceSide> => {
        const session = await parts.connections.open(connection)
        opened.push(session)
        const name = (await parts.connections.describe(connection))?.name ?? connection
        const side = sideOf({ name, session, now: parts.surroundings.now }, log => ({
          source: parts.journals.sourceOf(connection, log),
          follower: record.id,
        }))
        if (!side) throw noSide(name)
        opened.push(side)
        return side
      }
      const a = await sideAt(record.definition.from)
      const places = await placesOf(record.definition, { a, b: await sideAt(record.definition.to) })
      return new OpenTwoWay(this.run, this.known, { places, epoch, close })
    } catch (thrown) {
      await close()
      throw thrown
    }
  }
}

interface Opened {
  places: Places
  epoch: number
  close(): Promise<void>
}

class OpenTwoWay implements OpenRun {
  private readonly run: TwoWayRun
  private readonly known: Known
  private readonly opened: Opened
  private readonly hooks: Hooks
  /** When the last pass began and the next is due, in milliseconds. */
  private beganAt = 0
  private due = 0
  /** Whatever is gone, nobody is asked of it. */
  private mayGo = false
  private sweepNow = false

  constructor(run: TwoWayRun, known: Known, opened: Opened) {
    this.run = run
    this.known = known
    this.opened = opened
    this.hooks = new Hooks(run)
  }

  async begin(): Promise<void> {
    await this.settle(this.writing(this.run.turned))
    await this.count()
    await this.run.setState('Following')
    this.run.succeeded()
  }

  /** Before anything else: a call may have been left without an answer by a kill, a lost connection, or whatever else was wanted. */
  private async settle(writing: Writing): Promise<boolean> {
    const settled = await settleIntents(writing, this.opened.places.lanes)
    if (settled > 0)
      await this.run.log(
        'info',
        `What had become of ${settled.toLocaleString('en')} writes was not known; it is now.`,
      )
    return settled > 0
  }

  async errand({ kind, twoWay }: Errand): Promise<string> {
    if (kind === 'let rows go') {
      this.mayGo = true
      this.sweepNow = true
      this.due = 0
      return 'What is gone may be gone.'
    }
    if (kind !== 'two-way' || !twoWay)
      throw new Failure('refused', 'A two-way pipeline has no tables to copy.', 'Ask for a pass instead.')
    if (twoWay.deed === 'pass') {
      this.due = 0
      this.sweepNow ||= twoWay.sweep === true
      return 'A pass comes now.'
    }
    const { places } = this.opened
    const writing = this.writing(this.run.turned)
    await this.settle(writing)
    const keeping = this.keeping()
    const said =
      twoWay.deed === 'restore'
        ? await restore(writing, keeping, twoWay.point)
        : twoWay.deed === 'keep'
          ? await keepPoint(writing, keeping, 'asked for').then(() => 'Records of both sides are kept.')
          : await carryOutDeed(writing, places, twoWay)
    await this.endRun(said)
    await this.count()
    this.due = 0
    return said
  }

  async step(signal: AbortSignal): Promise<string | undefined> {
    const { run } = this
    const { surroundings } = run.parts
    if (run.state !== 'Following') await run.setState('Following')
    const woken = new AbortController()
    this.known.wake = () => woken.abort()
    if (this.known.nudged) woken.abort()
    const wait = this.due - surroundings.now()
    if (wait > 0) await this.waitForNews(wait, AbortSignal.any([signal, woken.signal]), woken)
    this.known.wake = undefined
    const early = this.beganAt + NUDGED_MS - surroundings.now()
    // Where edits follow one another they are looked at together.
    if (woken.signal.aborted && early > 0) await surroundings.sleep(early, signal)
    if (signal.aborted) return undefined
    this.known.nudged = false
    await this.pass(signal)
    return undefined
  }

  /** Until the time, or until a side has something to tell. */
  private async waitForNews(
    milliseconds: number,
    signal: AbortSignal,
    woken: AbortController,
  ): Promise<void> {
    const ended = new AbortController()
    const either = AbortSignal.any([signal, ended.signal])
    const telling = SIDES.flatMap(side => this.opened.places.apps[side].news?.(either) ?? [])
    const waited = this.run.parts.surroundings.sleep(milliseconds, signal)
    // What cannot be heard is found by the next pass, in its time.
    const told = telling.map(one =>
      one.then(
        () => either.aborted || woken.abort(),
        () => waited,
      ),
    )
    try {
      await Promise.race([waited, ...told])
    } finally {
      ended.abort()
      await Promise.allSettled(told)
    }
  }

  private async pass(signal: AbortSignal): Promise<void> {
    const { run, known, opened } = this
    const { record, parts } = run
    const { definition } = record
    const beganAt = parts.surroundings.now()
    this.beganAt = beganAt
    const writing = this.writing(signal)
    let changed = known.status.pairs === null
    try {
      if (await this.settle(writing)) changed = true
      const progressed = await this.progressed()
      await this.keepBefore(writing, progressed)
      await this.hooks.see(opened.places, signal)
      for (const lane of opened.places.lanes) {
        known.status = { ...known.status, doing: lane.name }
        const before = progressed.get(lane.name)
        const { taken, written, put, progress } = await passLane(
          writing,
          lane,
          definition,
          before,
          this.guard,
        )
        changed ||= written + put > 0
        if (taken.a + taken.b > 0 || written > 0)
          run.detail(() => ({
            message: `${taken.a} records of A and ${taken.b} of B were looked at, ${written} written.`,
            lanes: [lane.name],
          }))
        if (await this.sweep(writing, lane, progress, beganAt)) changed = true
      }
    } catch (thrown) {
      // Something else is wanted; what is left is done with the next pass.
      if (signal.aborted) return
      throw thrown
    } finally {
      known.status = { ...known.status, doing: null }
    }
    this.mayGo = false
    this.sweepNow = false
    known.completeUpTo = this.completeUpTo(beganAt)
    const at = (ms: number) => new Date(ms).toISOString()
    known.status = { ...known.status, last: { beganAt: at(beganAt), endedAt: at(parts.surroundings.now()) } }
    await this.endRun(null)
    if (changed) await this.count()
    this.due = beganAt + (definition.every ?? EVERY_SECONDS) * 1000
    run.succeeded()
  }

  /** How far each lane has come. */
  private async progressed(): Promise<Map<string, LaneProgress | undefined>> {
    const { record, parts } = this.run
    const progressed = new Map<string, LaneProgress | undefined>()
    for (const { name } of this.opened.places.lanes)
      progressed.set(name, await parts.pairs.lane(record.id, name))
    return progressed
  }

  private keeping(): Keeping {
    const { places } = this.opened
    const { record, parts } = this.run
    const digests = Object.fromEntries(
      places.lanes.map(lane => [lane.name, digestOf(lane, record.definition)]),
    )
    return { points: parts.restorePoints, places, digests }
  }

  /** Before the first pass, and before one that looks at all records because the setup is another one. */
  private async keepBefore(
    writing: Writing,
    progressed: ReadonlyMap<string, LaneProgress | undefined>,
  ): Promise<void> {
    const { record, parts } = this.run
    const keeping = this.keeping()
    const names = this.opened.places.lanes.map(({ name }) => name)
    const known = names.map(name => progressed.get(name))
    const isNew = known.every(one => one === undefined)
    if (names.every((name, i) => known[i]?.digest === keeping.digests[name])) return
    const [last] = await parts.restorePoints.list(record.id)
    // Made already, by a pass that did not come to its end.
    if (last && canonicalJson(last.digests) === canonicalJson(keeping.digests)) return
    this.known.status = { ...this.known.status, doing: 'a restore point' }
    const { apps, lanes } = this.opened.places
    for (const [i, { objects }] of lanes.entries())
      if (known[i] === undefined)
        for (const side of SIDES) await apps[side].prepare?.(objects[side].name, writing.signal)
    await keepPoint(writing, keeping, isNew ? 'before the first pass' : 'before the setup was changed')
    await this.run.log('info', 'A restore point was made: records of both sides are kept as they were.')
  }

  /** Sides that tell of changes late, or cannot be heard, are complete up to some time before; what is not known is as it was. */
  private completeUpTo(beganAt: number): number | null {
    const upTo = SIDES.map(side => {
      const { completeUpTo } = this.opened.places.apps[side]
      return completeUpTo ? completeUpTo.call(this.opened.places.apps[side]) : beganAt
    })
    return upTo.some(one => one === null) ? this.known.completeUpTo : Math.min(beganAt, ...(upTo as number[]))
  }

  /** Whether it was time to. */
  private async sweep(
    writing: Writing,
    lane: CompiledLane,
    progress: LaneProgress,
    now: number,
  ): Promise<boolean> {
    const { run } = this
    const { record, parts } = run
    const { definition } = record
    const last = progress.sweptAt === null ? -Infinity : Date.parse(progress.sweptAt)
    const isDue = now - last >= (definition.sweep ?? SWEEP_MINUTES) * 60_000
    if (!isDue && !this.sweepNow) return false
    const again = await sweepLane(writing, lane, this.guard)
    await mergeAll(writing, lane, again)
    await parts.pairs.commit(record.id, {
      epoch: this.opened.epoch,
      at: writing.now(),
      lane: { name: lane.name, ...progress, sweptAt: writing.now() },
    })
    return true
  }

  /** Of how many deletions somebody is asked first; undefined: of none. */
  private get guard(): NonNullable<TwoWayDefinition['guard']> | undefined {
    return this.mayGo ? undefined : (this.run.record.definition.guard ?? GONE_GUARD)
  }

  async rest(signal: AbortSignal): Promise<void> {
    await this.run.parts.surroundings.sleep(60_000, signal)
  }

  async dismantle(): Promise<string> {
    await this.hooks.end(this.opened.places, this.run.turned)
    for (const side of SIDES) await this.opened.places.apps[side].end?.()
    return 'Both sides stay as they are, and what is paired is remembered.'
  }

  close(): Promise<void> {
    return this.opened.close()
  }

  private async count(): Promise<void> {
    const totals = await this.run.parts.pairs.totals(this.run.record.id)
    this.known.status = { ...this.known.status, ...totals }
  }

  /** A run begins with the first write of a pass. */
  private writing(signal: AbortSignal): Writing {
    const { run } = this
    const { surroundings, pairs } = run.parts
    const { places, epoch } = this.opened
    return {
      pipeline: run.record.id,
      epoch,
      apps: places.apps,
      pairs,
      get run() {
        run.runs.going('two-way')
        return run.runs.newest.get('two-way')!.id
      },
      now: () => new Date(surroundings.now()).toISOString(),
      newId: surroundings.newId,
      signal,
      lost: this.known.lost,
      told: (side, lane, op, done, refused) => this.told(side, lane, op, done, refused),
    }
  }

  private told(side: Side, lane: CompiledLane, op: TwoWayIntent['op'], done: number, refused: number): void {
    const { run, known } = this
    const counts = { inserted: 0, updated: 0, deleted: 0 }
    counts[({ create: 'inserted', change: 'updated', remove: 'deleted' } as const)[op]] = done
    const table = `${lane.objects[side].title} of ${this.opened.places.apps[side].name}`
    run.runs.batch('two-way', table, 'changes', {
      rows: done,
      bytes: 0,
      truncated: 0,
      beganAt: new Date(run.parts.surroundings.now()).toISOString(),
      ...counts,
    })
    run.runs.count('two-way', { writes: 1, held: refused })
    const before = known.status.done[side]
    known.status = {
      ...known.status,
      done: {
        ...known.status.done,
        [side]: {
          created: before.created + counts.inserted,
          changed: before.changed + counts.updated,
          deleted: before.deleted + counts.deleted,
        },
      },
    }
    run.succeeded()
  }

  private async endRun(note: string | null): Promise<void> {
    await this.run.runs.end('two-way', 'done', note)
  }
}
