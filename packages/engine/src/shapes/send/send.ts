/** A pipeline that sends: it waits until somebody or something asks for a run, and then sends what differs into an app. */
import type { AppSide } from '@tide/connectors/contract/app'
import type {
  Compared,
  SentOperation,
  SentOutcome,
  SentState,
  SentTotals,
} from '@tide/connectors/contract/sent'
import type { Session } from '@tide/connectors/contract/session'
import type { SendAsks, SendCounts, SendDeed, SendProgress, SendRun, SendStatus } from '@tide/core/api/send'
import type { ShapeStatus } from '@tide/core/api/pipelines'
import type { Errand } from '@tide/core/definition/errand'
import type { SendDefinition } from '@tide/core/definition/send'
import { REFUSED_AT_MOST } from '@tide/core/definition/send'
import { asFailure, Failure } from '@tide/core/failure'
import type { Saying } from '@tide/core/send/by-hand'
import { placeOf } from '@tide/core/send/place'
import { Rate } from '@tide/core/pace/rate'
import type { OpenRun, SendingRun, ShapeRun } from '../shape.ts'
import { SentLog } from './sent-log.ts'
import { differenceNow, guardSays, sidesOf, type SendSides } from './foresee.ts'
import { sendAll, settleCalls, type SendingParts } from './sending.ts'
import { sourceOfSend } from './source.ts'

const RATE_OVER_MS = 5_000
const REST_MS = 60_000

/** What outlives the sessions of a run. */
interface Known {
  progress: SendProgress | null
  totals: SentTotals | null
  asks: SendAsks | null
}

export class Send implements ShapeRun {
  private readonly run: SendingRun
  private readonly known: Known = { progress: null, totals: null, asks: null }
  readonly measures = false
  readonly standing = undefined
  readonly retry = null

  constructor(run: SendingRun) {
    this.run = run
  }

  get status(): ShapeStatus {
    const { progress, totals, asks } = this.known
    const { sent = null, held = null, last = null } = totals ?? {}
    const send: SendStatus = { progress, last, asks, sent, held }
    return { completeUpTo: null, consistent: false, position: null, lanes: [], send }
  }

  async open(epoch: number): Promise<OpenRun> {
    const { record, parts } = this.run
    const opened: { close(): Promise<void> }[] = []
    const close = async () => {
      for (const one of opened.toReversed()) await one.close().catch(() => {})
    }
    try {
      const state = await parts.sent.open(record.id, placeOf(record.definition))
      opened.push(state)
      const from = await parts.connections.open(record.definition.from)
      opened.push(from)
      const to = await parts.connections.open(record.definition.to)
      opened.push(to)
      return new OpenSend(this.run, this.known, { state, from, app: appOf(to), epoch, close })
    } catch (thrown) {
      await close()
      throw thrown
    }
  }
}

function appOf({ app }: Session): AppSide {
  if (app) return app
  throw new Failure('structural', 'The target is no app.', 'Choose a connection to one in the setup.')
}

interface Sides {
  state: SentState
  from: Session
  app: AppSide
  epoch: number
  close(): Promise<void>
}

class OpenSend implements OpenRun {
  private readonly run: SendingRun
  private readonly known: Known
  private readonly sides: Sides
  private log: SentLog | undefined

  constructor(run: SendingRun, known: Known, sides: Sides) {
    this.run = run
    this.known = known
    this.sides = sides
  }

  async begin(): Promise<void> {
    const { state } = this.sides
    this.known.totals = await state.totals()
    await this.settle()
    this.log = await this.openLog()
    await this.log?.write()
    this.run.succeeded()
    if (this.run.state === 'Copying') await this.run.setState('Waiting')
  }

  private async openLog(): Promise<SentLog | undefined> {
    const { id, definition } = this.run.record
    const { state, from: session, epoch } = this.sides
    const { log: table } = definition
    if (!table) {
      await state.setLogged(null)
      return undefined
    }
    const now = () => new Date(this.run.parts.surroundings.now()).toISOString()
    return SentLog.open({ pipeline: id, epoch, table, session, state, now })
  }

  /** What has become of calls that had no answer. */
  private async settle(): Promise<void> {
    const { run, known } = this
    const { state, app } = this.sides
    if ((await state.unsettled()).length === 0) return
    const { definition } = run.record
    const object = (await app.objects()).find(({ name }) => name === definition.object)
    if (!object)
      throw new Failure(
        'structural',
        `${app.name} has no object “${definition.object}” any more, and it is not known what has become of the last calls.`,
        'Correct the app’s description, and continue.',
      )
    const settled = await settleCalls(this.parts({ app, object, definition }, run.turned))
    await run.log(
      'info',
      `What had become of ${settled.toLocaleString('en')} records was not known; it is now.`,
    )
    known.totals = await state.totals()
  }

  async errand({ kind, send }: Errand): Promise<string> {
    if (kind !== 'send' || !send)
      throw new Failure('refused', 'A pipeline that sends has no tables.', 'Ask for a run instead.')
    const before = this.run.state
    await this.run.setState('Sending')
    try {
      return await this.send(send)
    } catch (thrown) {
      // Whatever an engine that ends breaks off is begun again by the next one.
      if (this.run.turned.aborted && !this.run.ending) return this.brokenOff()
      const failure = asFailure(thrown)
      // What cannot be sent as it is now is no reason to send nothing ever after.
      if (failure.kind !== 'refused' && failure.kind !== 'guard') throw thrown
      await this.run.log('warning', failure.message, { remedy: failure.remedy })
      await this.run.runs.end('send', 'failed', failure.message)
      throw failure.kind === 'guard' ? new Failure('refused', failure.message, failure.remedy) : thrown
    } finally {
      this.known.progress = null
      if (!this.run.turned.aborted) await this.run.setState(before === 'Paused' ? 'Paused' : 'Waiting')
    }
  }

  /** There is nothing to be done before somebody asks. */
  async step(signal: AbortSignal): Promise<string | undefined> {
    if (this.run.state !== 'Waiting') await this.run.setState('Waiting')
    await this.rest(signal)
    return undefined
  }

  async rest(signal: AbortSignal): Promise<void> {
    await this.run.parts.surroundings.sleep(REST_MS, signal)
  }

  dismantle(): Promise<string> {
    return Promise.resolve('What was sent stays in the app, and is remembered here.')
  }

  close(): Promise<void> {
    return this.sides.close()
  }

  private async brokenOff(): Promise<string> {
    const note = 'Ended before its end; the next run sends what is left.'
    await this.run.runs.end('send', 'ended', note)
    return note
  }

  private async opened(): Promise<SendSides> {
    const { record, parts } = this.run
    const { from, app } = this.sides
    const source = await sourceOfSend(record.definition, from, parts.queries, this.run.turned)
    return sidesOf(record.definition, source, app)
  }

  private async send(deed: SendDeed): Promise<string> {
    const { run, known } = this
    const { state } = this.sides
    const { surroundings } = run.parts
    run.runs.going('send')
    const { id, startedAt } = run.runs.newest.get('send')!
    const signal = run.turned
    await this.settle()
    const sides = await this.opened()
    if (deed.deed === 'undo') return this.undo(sides, id)
    const saying = sayingOf(deed)
    if (deed.keys && !saying) await state.letGo(deed.keys)
    else if (deed.deed === 'again') await state.letGo('all')
    const again = deed.keys
      ? { again: { keys: deed.keys, only: true } }
      : deed.deed === 'again'
        ? { again: 'all' as const }
        : {}
    const tell = (phase: SendProgress['phase'], done: number, of: number | null) => {
      known.progress = { phase, done, of, perSecond: 0 }
    }
    const now = () => new Date(surroundings.now()).toISOString()
    const said = saying ? { saying: { ...saying, run: id } } : {}
    const asked = { state, now, tell, signal, ...again, ...said }
    const { compared, counts, hands } = await differenceNow(sides, asked)
    try {
      run.runs.count('send', { reads: compared.rows })
      this.guard(sides.definition, counts, deed, now())
      const done = await this.sendDifference(sides, compared, counts, { id, signal })
      if (signal.aborted) throw signal.reason
      if (!deed.keys) await state.forgetByHand(hands.over)
      const last = { id, startedAt, endedAt: now(), unchanged: counts.unchanged, ...done }
      await state.keepRun(id, deed.keys ? undefined : fieldsOf(sides.definition), last)
      await this.log?.write()
      known.totals = await state.totals()
      known.asks = null
      const { created, changed, removed, refused, note } = done
      await run.runs.end('send', 'done', note)
      run.succeeded()
      const said = `${created.toLocaleString('en')} created, ${changed.toLocaleString('en')} changed, ${removed.toLocaleString('en')} removed, ${refused.toLocaleString('en')} refused, ${counts.unchanged.toLocaleString('en')} as they were${note ? `. ${note}` : '.'}`
      await run.log(refused > 0 ? 'warning' : 'info', `Sent: ${said}`)
      return said
    } finally {
      await compared.close()
    }
  }

  private guard(definition: SendDefinition, counts: SendCounts, { deed, most }: SendDeed, at: string): void {
    if (deed === 'try' || deed === 'correct') return
    const says = guardSays(definition, counts, this.known.totals ?? { sent: 0, ran: false, usual: null })
    if (says === null) return
    const { create, change, remove } = counts
    const passes =
      deed === 'pass' &&
      most !== undefined &&
      create <= most.create &&
      change <= most.change &&
      remove <= most.remove
    if (passes) return
    this.known.asks = { at, message: says, create, change, remove }
    throw new Failure('guard', says, 'Look at its differences, and let them pass once; or correct the query.')
  }

  private async sendDifference(
    sides: SendSides,
    compared: Compared,
    counts: SendCounts,
    { id, signal }: { id: string; signal: AbortSignal },
  ): Promise<Pick<SendRun, 'created' | 'changed' | 'removed' | 'refused' | 'note'>> {
    const { run, known } = this
    const { surroundings } = run.parts
    const most = sides.definition.refused ?? REFUSED_AT_MOST
    const done = { created: 0, changed: 0, removed: 0, refused: 0 }
    const of = counts.create + counts.change + counts.remove
    const rate = new Rate(RATE_OVER_MS, surroundings.now())
    const beganAt = new Date(surroundings.now()).toISOString()
    let sent = 0
    known.progress = { phase: 'sending', done: 0, of, perSecond: 0 }
    const parts = this.parts(sides, signal, (operations, outcomes) => {
      const batch = { inserted: 0, updated: 0, deleted: 0 }
      for (const [i, { op }] of operations.entries()) {
        if (!('id' in outcomes[i]!)) done.refused++
        else if (op === 'create') batch.inserted++
        else if (op === 'change') batch.updated++
        else batch.deleted++
      }
      done.created += batch.inserted
      done.changed += batch.updated
      done.removed += batch.deleted
      sent += operations.length
      rate.add(surroundings.now(), operations.length)
      known.progress = { phase: 'sending', done: sent, of, perSecond: rate.perSecond(surroundings.now()) }
      const rows = batch.inserted + batch.updated + batch.deleted
      run.runs.batch('send', sides.object.name, 'changes', {
        rows,
        bytes: 0,
        truncated: 0,
        beganAt,
        ...batch,
      })
      run.runs.count('send', { writes: 1, held: operations.length - rows })
      run.succeeded()
    })
    await sendAll(parts, compared, id, () => done.refused > most)
    const note =
      done.refused > most
        ? `Ended, for ${sides.app.name} has refused more than ${most.toLocaleString('en')} records.`
        : null
    return { ...done, note }
  }

  /** Takes back what the last try has done: what was created is removed, what was changed is as it was before, as far as we have sent that. */
  private async undo(sides: SendSides, id: string): Promise<string> {
    const { run } = this
    const { state, app } = this.sides
    const [last] = await state.results({ limit: 1 })
    const alone = last && (await state.results({ run: last.run, limit: 2 })).length === 1
    if (!last || !alone || last.refused || last.id === null)
      throw new Failure('refused', 'There is nothing to take back.', 'Look at the records that were sent.')
    const { key, was, op } = last
    if (op === 'create' && !sides.object.can.remove)
      throw new Failure(
        'refused',
        `${app.name} lets nobody remove ${sides.object.title}.`,
        'Remove the record in the app.',
      )
    if (op !== 'create' && was === null)
      throw new Failure(
        'refused',
        'It is not known what the record was before, for we had not sent it.',
        'Correct the record in the app.',
      )
    const back: SentOperation = {
      op: op === 'create' ? 'remove' : 'change',
      key,
      id: last.id,
      values: op === 'create' ? {} : was!,
      becomes: was ?? {},
      was: last.values,
      told: null,
    }
    const call = { once: run.parts.surroundings.newId(), run: id, operations: [back] }
    await state.begin(call)
    const refused: SentOutcome[] = []
    const told = (_: readonly SentOperation[], outcomes: readonly SentOutcome[]) =>
      void refused.push(...outcomes.filter(outcome => 'reason' in outcome))
    await settleCalls(this.parts(sides, run.turned, told))
    await state.keepRun(id)
    await this.log?.write()
    this.known.totals = await state.totals()
    const [first] = refused
    if (first && 'reason' in first)
      throw new Failure(
        'refused',
        `${app.name} refused to take it back: ${first.reason}`,
        'Correct the record in the app.',
      )
    const said = `Taken back: ${op === 'create' ? 'the record is removed' : 'the record is as it was'}.`
    await run.runs.end('send', 'done', said)
    return said
  }

  private parts(
    { app, object, definition }: Omit<SendSides, 'source'>,
    signal: AbortSignal,
    told: (operations: readonly SentOperation[], outcomes: readonly SentOutcome[]) => void = () => {},
  ): SendingParts {
    const { surroundings } = this.run.parts
    return {
      app,
      object,
      meets: definition.meets,
      state: this.sides.state,
      now: () => new Date(surroundings.now()).toISOString(),
      newId: surroundings.newId,
      signal,
      told: ({ operations, outcomes }) => told(operations, outcomes),
    }
  }
}

function sayingOf({ deed, keys = [], values, note }: SendDeed): Saying | undefined {
  if (deed === 'correct') return { keys, values: values ?? null, note: note ?? null }
  return deed === 'leave out' ? { keys, values: null, note: note ?? null } : undefined
}

function fieldsOf({ fields }: SendDefinition): string[] {
  return fields.map(({ field, once }) => (once ? `${field}, once` : field))
}
