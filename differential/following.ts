/** One pipeline, run as an engine runs it, that can be cut off anywhere. */
import type { Errand } from '@tide/core/definition/errand'
import { sourceOf } from '@tide/core/definition/pipeline'
import type { LaneVerified } from '@tide/core/definition/verification'
import type { Lane } from '@tide/core/plan/lane'
import type { Plan } from '@tide/core/plan/plan'
import { keyOf, keyText, type Key, type Row } from '@tide/core/records/value'
import { LaneRehearsal } from '@tide/core/shape/rehearsal'
import { setTimeout as sleep } from 'node:timers/promises'
import type { Session } from '../packages/connectors/src/contract/session.ts'
import type { JournalKeepers } from '../packages/engine/src/journal/keepers.ts'
import type { EngineParts } from '../packages/engine/src/parts.ts'
import type { Surroundings } from '../packages/engine/src/repositories.ts'
import { keyedHash } from '../packages/engine/src/keyed-hash.ts'
import { Runner } from '../packages/engine/src/runner.ts'
import { MemoryHeld } from '../packages/engine/tests/memory-held.ts'
import { MemoryVerifications } from '../packages/engine/tests/memory-verifications.ts'
import { nothingCalled, nothingKept, nothingPaired } from '../packages/engine/tests/nothing-paired.ts'
import { MemoryStore } from '../packages/engine/tests/memory-store.ts'
import { rowPair } from '../packages/server/src/row-pair.ts'
import { isInFiles, type TargetName } from './render.ts'

const FOLLOWS_WITHIN_MS = 30_000

export interface Outcome {
  target: TargetName
  result: 'same' | 'different' | 'refused'
  detail: string
}

type Use = <T>(id: string, body: (session: Session) => Promise<T>) => Promise<T>

export const surroundings: Surroundings = {
  now: Date.now,
  random: Math.random,
  sleep: (milliseconds, signal) => sleep(milliseconds, undefined, { signal }).catch(() => {}),
  newId: () => Math.random().toString(36).slice(2),
}

/** Of the masks' keyed hash. */
export const MASK_KEY = new Uint8Array(32).fill(7)

/** What the names of the tables at the target begin with that say how it stands. */
export const STATUS = 'tide'

export const filesOf = (target: TargetName) =>
  ({ as: target === 'merged' ? 'merged' : 'changes', format: 'parquet' }) as const

export class Following {
  readonly target: TargetName
  readonly plan: Plan
  readonly verifications = new MemoryVerifications()
  private readonly store: MemoryStore
  private readonly parts: EngineParts
  private runner: Runner
  private running: Promise<void> | undefined

  constructor(
    target: TargetName,
    from: string,
    plan: Plan,
    journals: JournalKeepers,
    connections: EngineParts['connections'],
    id = `${from}_${target}`,
  ) {
    this.target = target
    this.plan = plan
    const definition = {
      version: 2,
      shape: 'replicate',
      name: target,
      from,
      to: target,
      targetSchema: from,
      tables: [],
      ...(isInFiles(target) ? { files: filesOf(target), speed: { waits: 0.05 } } : { status: STATUS }),
      // What the target does not take stops it, so that it is seen.
      held: { most: 0 },
      guard: { percent: 100 },
    } as const
    this.store = new MemoryStore({ ...definition, tables: [] }, Date.now)
    Object.assign(this.store.record, { id, holder: 'here', state: 'Ready' })
    const nothing = async () => {}
    this.parts = {
      name: 'here',
      home: 'here',
      connections,
      surroundings,
      maskKey: MASK_KEY,
      queries: { get: async () => undefined },
      sent: { open: () => Promise.reject(new Error('nothing is sent here')), remove: nothing },
      pairs: nothingPaired(),
      webhooks: nothingCalled,
      restorePoints: nothingKept,
      journals,
      pipelines: this.store.pipelines,
      leases: this.store.leases,
      errands: this.store.errands,
      positions: { keep: nothing },
      held: new MemoryHeld(),
      verifications: this.verifications,
      history: {
        log: nothing,
        trimLog: nothing,
        addFigures: nothing,
        figures: async () => [],
        trimFigures: nothing,
        addLaneFigures: nothing,
      },
      runs: { put: nothing, cutOff: nothing, trim: nothing },
    }
    const { record } = this.store
    void this.store.pipelines.start(
      from,
      { ...plan, definition: record.definition },
      new Date().toISOString(),
      null,
    )
    this.runner = this.made()
  }

  private made(): Runner {
    return new Runner(this.parts, structuredClone(this.store.record), 'here')
  }

  /** What is changed from here on will come. */
  get captures(): boolean {
    return this.runner.status.position !== null
  }

  get state(): string {
    return this.store.record.state
  }

  begin(): void {
    this.running = this.runner.run()
  }

  /** Ends it where it stands, and begins again from what the target says. */
  async cutOff(): Promise<void> {
    await this.halt()
    if (this.state !== 'Stopped') this.goOn()
  }

  goOn(): void {
    this.runner = this.made()
    this.begin()
  }

  async halt(): Promise<void> {
    this.runner.interrupt()
    await this.running
  }

  async until(what: () => boolean): Promise<boolean> {
    const began = Date.now()
    while (!what() && this.state !== 'Stopped') {
      if (Date.now() - began > FOLLOWS_WITHIN_MS) return false
      await sleep(25)
    }
    return this.state !== 'Stopped'
  }

  /** Waits until all that was committed before has landed; says what came in between, if anything. */
  async reach(ended: number): Promise<Pick<Outcome, 'result' | 'detail'> | undefined> {
    const reached = await this.until(() => {
      const { state, consistent, completeUpTo } = this.runner.status
      return state === 'Following' && consistent && Date.parse(completeUpTo ?? '') > ended
    })
    if (reached) return undefined
    return this.stopped()
  }

  /** Holds lanes against the source; undefined: it did not come to an end. */
  async verify(lanes: readonly number[]): Promise<LaneVerified[] | undefined> {
    const run = this.store.record.id
    const id = surroundings.newId()
    const asked = lanes.map(index => ({ run, index, lane: index }))
    const pace = { rowsPerSecond: null, pauseAboveSeconds: null }
    const askedAt = new Date().toISOString()
    await this.verifications.ask({ id, pipeline: run, level: 'rows', pace, askedAt, lanes: asked })
    const mine = () => this.verifications.lanes.filter(({ verification }) => verification === id)
    await this.ask({ kind: 'verify' })
    const over = await this.until(() => mine().every(({ verified: { endedAt } }) => endedAt !== null))
    return over ? mine().map(({ verified }) => verified) : undefined
  }

  /** Repairs what the last verification has found; false: it did not come to an end. */
  async repair(lanes: readonly number[]): Promise<boolean> {
    const { verification } = this.verifications.lanes.at(-1)!
    for (const index of lanes) await this.ask({ kind: 'repair', repair: { verification, index, ids: [] } })
    return this.until(() => this.store.asked.every(({ endedAt }) => endedAt !== null))
  }

  private async ask(errand: Pick<Errand, 'kind'> & Partial<Errand>): Promise<void> {
    const { id: pipeline } = this.store.record
    const rest = {
      lanes: [],
      to: null,
      reason: null,
      held: null,
      repair: null,
      send: null,
      twoWay: null,
      askedBy: null,
    }
    const asked = {
      ...rest,
      ...errand,
      id: surroundings.newId(),
      pipeline,
      askedAt: new Date().toISOString(),
    }
    await this.store.errands.ask(asked)
    this.runner.turn()
  }

  /** Why it does not follow. */
  stopped(): Pick<Outcome, 'result' | 'detail'> {
    const { reason } = this.store.record
    if (!reason) return { result: 'different', detail: `stuck: ${JSON.stringify(this.runner.status)}` }
    // A value that does not fit is told with its row, and nothing is lost; anything else must not happen here.
    return {
      result: reason.kind === 'value' ? 'refused' : 'different',
      detail: `stopped: ${reason.message} ${reason.remedy}`,
    }
  }

  /** Whether a rehearsal with all rows would have told what came; what it would not, in words. */
  private async foreseen(lane: Lane, key: Key, use: Use): Promise<string | undefined> {
    const from = sourceOf(this.store.record)
    const table = { dataset: lane.source, columns: lane.reads }
    const rows = await use(from, async session => {
      const all: Row[] = []
      const limits = { batchRows: 7, timeoutMs: 20_000, signal: new AbortController().signal }
      for await (const batch of session.scan!(table, limits)) all.push(...batch)
      return all
    })
    const identity = lane.identity.map(name => lane.reads.findIndex(column => column.name === name))
    const read = await use(from, session => session.row({ ...table, key: lane.identity }, key))
    const scanned = rows.find(row => keyText(keyOf(row, identity)) === keyText(keyOf(read!, identity)))
    if (JSON.stringify(scanned) !== JSON.stringify(read))
      return `scan: ${JSON.stringify(scanned)?.slice(0, 300)}, and by its key ${JSON.stringify(read).slice(0, 300)}`
    const [holdsOf, there] = await use(this.target, async ({ target }) => [
      target!.profile.holdsOf,
      await target!.count({ table: lane.target, columns: lane.writes, key: lane.key }),
    ])
    const rehearsal = new LaneRehearsal(lane, { origin: '', hash: keyedHash(MASK_KEY) }, holdsOf, '')
    for (const row of rows) rehearsal.add(row)
    const { held, inScope, misfits } = rehearsal.result
    if (held > 0) return `rehearsed: ${JSON.stringify(misfits).slice(0, 300)} went in all the same`
    if (lane.deletes === undefined && inScope !== there)
      return `rehearsed: ${inScope} rows of ${lane.source.name} are in scope, and ${there} are there`
    return undefined
  }

  /** Whether *Rows*, which shows single rows of both sides, finds the same what is the same; what it does not, in words. */
  async rowsAgree(open: (id: string) => Promise<Session>): Promise<string | undefined> {
    const held = new Map<string, Session>()
    const use: Use = async (id, body) => {
      const session = held.get(id) ?? (await open(id))
      held.set(id, session)
      return body(session)
    }
    const services = { sessions: { use }, store: { maskKey: MASK_KEY } }
    const { record } = this.store
    try {
      for (const [index, lane] of this.plan.lanes.entries()) {
        const last = await rowPair(services, record, index, null)
        if (!last.atSource) continue
        const { atSource, atTarget, fields } = await rowPair(services, record, index, last.key)
        const lost = !atSource ? 'source' : !atTarget && lane.scope === null ? 'target' : undefined
        if (lost)
          return `Rows: ${lane.target.name} ${lost} does not find the row with ${JSON.stringify(last.key).slice(0, 200)}`
        // Of files, each change is a row.
        const foreseen = this.target !== 'folder' && (await this.foreseen(lane, last.key, use))
        if (foreseen) return foreseen
        const odd = atTarget ? fields.find(({ same }) => !same) : undefined
        if (odd)
          return `Rows: ${lane.target.name}.${odd.name}: ${String(odd.source).slice(0, 100)} is shown as ${String(odd.there).slice(0, 100)}`
      }
      return undefined
    } finally {
      for (const session of held.values()) await session.close()
    }
  }
}
