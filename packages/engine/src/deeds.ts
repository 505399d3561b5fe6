/** What people ask of pipelines that run, beyond starting, pausing and stopping them: each is put down as an errand. */
import type { SendDeed } from '@tide/core/api/send'
import type { TwoWayDeed } from '@tide/core/api/two-way'
import type { Errand } from '@tide/core/definition/errand'
import type { HeldDeed } from '@tide/core/definition/held'
import { runsOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import type { AskedVerification, RepairDeed } from '@tide/core/definition/verification'
import { Failure } from '@tide/core/failure'
import type { Position } from '@tide/core/position/position'
import { printName } from '@tide/core/records/dataset'
import {
  heldSaid,
  lanesFollowed,
  lanesToVerify,
  refuseMoving,
  repairSaid,
  verificationSaid,
} from './asking.ts'
import type { EngineParts } from './parts.ts'

const SEND_SAID: Record<SendDeed['deed'], string> = {
  run: 'A run was asked for.',
  again: 'Everything named is to be sent again.',
  try: 'One record is to be sent, to see what comes of it.',
  undo: 'The last record that was tried is to be taken back.',
  pass: 'The differences may pass once.',
  correct: 'A record was corrected by hand.',
  'leave out': 'Rows were left out by hand.',
}

/** What the engine does for it. */
interface Carrying {
  record(id: string): Promise<PipelineRecord>
  /** Looks for what there is to do. */
  look(): Promise<void>
  /** Logs what a person has done. */
  say(pipeline: string, message: string): Promise<void>
  /** Lets a run go on that has stopped for a reason. */
  takeUp(run: string): Promise<void>
}

type Parts = Pick<EngineParts, 'errands' | 'pipelines' | 'surroundings' | 'verifications'>

const DEED_SAID: Record<Exclude<TwoWayDeed['deed'], 'pass'>, string> = {
  decide: 'Somebody has decided what waited.',
  'try again': 'What was refused is tried again.',
  'take apart': 'Pairs are taken apart.',
  undo: 'What was written is undone.',
  keep: 'A restore point is made.',
  restore: 'Records are written back as they were at a restore point.',
}

export class Deeds {
  private readonly parts: Parts
  private readonly engine: Carrying

  constructor(parts: Parts, engine: Carrying) {
    this.parts = parts
    this.engine = engine
  }

  /** What has stopped before it would delete most of a table goes on, and does so. */
  async letRowsGo(id: string): Promise<void> {
    const record = await this.engine.record(id)
    const asking = runsOf(record).filter(
      ({ state, reason }) => state === 'Stopped' && reason?.kind === 'guard',
    )
    if (asking.length === 0)
      throw new Failure('refused', `“${record.definition.name}” does not ask.`, 'Look at its state again.')
    for (const run of asking) {
      await this.ask(run.id, { kind: 'let rows go' })
      await this.engine.takeUp(run.id)
    }
    await this.engine.say(id, 'Let the rows go.')
    await this.engine.look()
  }

  /** What has come lands, and waits for no more. */
  async landNow(id: string): Promise<void> {
    const record = await this.engine.record(id)
    const following = runsOf(record).filter(({ state }) => state === 'Following')
    if (following.length === 0)
      throw new Failure(
        'refused',
        `“${record.definition.name}” does not follow just now.`,
        'Continue it; what has come lands then.',
      )
    for (const run of following) await this.ask(run.id, { kind: 'land now' })
    await this.engine.say(id, 'What waits is to land now.')
    await this.engine.look()
  }

  /** Asks a pipeline that sends for a run; returns the errand's id. */
  async send(id: string, deed: SendDeed): Promise<string> {
    const { definition, state, wanted } = await this.engine.record(id)
    if (definition.shape !== 'send')
      throw new Failure('refused', `“${definition.name}” sends nothing into an app.`, 'Ask one that does.')
    if ((state !== 'Waiting' && state !== 'Sending') || wanted !== 'run')
      throw new Failure(
        'refused',
        `“${definition.name}” is ${state.toLowerCase()}.`,
        'Start it, or continue it.',
      )
    const waiting = (await this.parts.errands.waiting(id)).filter(({ kind }) => kind === 'send')
    if (waiting.length > 0)
      throw new Failure('refused', `A run of “${definition.name}” is under way.`, 'Wait for its end.')
    const errand = await this.ask(id, { kind: 'send', send: deed })
    await this.engine.say(id, SEND_SAID[deed.deed])
    await this.engine.look()
    return errand
  }

  /** Asks a two-way pipeline for something; returns the errand's id. */
  async twoWay(id: string, deed: TwoWayDeed): Promise<string> {
    const { definition, state, wanted } = await this.engine.record(id)
    if (definition.shape !== 'two-way')
      throw new Failure('refused', `“${definition.name}” keeps no two places in step.`, 'Ask one that does.')
    // Conflicts can be decided while it stands still.
    const ready = state === 'Following' || (state === 'Paused' && deed.deed !== 'pass')
    if (!ready || wanted === 'stop')
      throw new Failure(
        'refused',
        `“${definition.name}” is ${state.toLowerCase()}.`,
        'Start it, or continue it.',
      )
    const errand = await this.ask(id, { kind: 'two-way', twoWay: deed })
    if (deed.deed !== 'pass') await this.engine.say(id, DEED_SAID[deed.deed])
    await this.engine.look()
    return errand
  }

  /** Empties the tables of these lanes (all, when none is named) and copies them again. */
  async recopy(id: string, lanes: number[]): Promise<void> {
    const record = await this.engine.record(id)
    const found = lanesFollowed(record, lanes, 'Only what follows can be copied again.')
    await this.ofLanes(record, found, 'recopy', 'Recopy of')
  }

  /** Lets these lanes stand still while the others go on. */
  async pauseLanes(id: string, lanes: number[]): Promise<void> {
    const record = await this.engine.record(id)
    const found = lanesFollowed(record, lanes, 'Only what follows can stand still.')
    for (const run of runsOf(record))
      if (run.lanes.every((_, i) => found.some(one => one.run.id === run.id && one.index === i)))
        throw new Failure('refused', 'No lane would go on.', 'Pause the pipeline, or its origin, as a whole.')
    await this.ofLanes(record, found, 'pause lanes', 'Standing still asked for:')
  }

  /** Lets lanes that stand still (all, when none is named) go on from where they stand. */
  async continueLanes(id: string, lanes: number[]): Promise<void> {
    const record = await this.engine.record(id)
    const found = lanesFollowed(record, lanes, 'Continue it as a whole first.')
    await this.ofLanes(record, found, 'continue lanes', 'Going on asked for:')
  }

  private async ofLanes(
    record: PipelineRecord,
    found: ReturnType<typeof lanesFollowed>,
    kind: 'recopy' | 'pause lanes' | 'continue lanes',
    said: string,
  ): Promise<void> {
    const names = found.map(
      ({ lane: { origin, source } }) => `${printName(source)}${origin === undefined ? '' : ` of ${origin}`}`,
    )
    await this.engine.say(record.id, `${said} ${names.join(', ')}.`)
    for (const run of runsOf(record)) {
      const own = found.filter(one => one.run.id === run.id).map(({ index }) => index)
      if (own.length > 0) await this.ask(run.id, { kind, lanes: own })
    }
    await this.engine.look()
  }

  /**
   * Lets runs of a pipeline go on from other positions; one that has stopped for a reason goes on with that. `reason`: why
   * changes are left out, where one lies ahead.
   */
  async rewind(
    id: string,
    places: readonly { run: string; to: Position }[],
    reason: string | null,
  ): Promise<void> {
    const record = await this.engine.record(id)
    const runs = places.map(({ run, to }) => ({ run: runsOf(record).find(one => one.id === run)!, to }))
    for (const { run } of runs) refuseMoving(record, run)
    for (const { run, to } of runs) {
      await this.ask(run.id, { kind: 'rewind', to, reason })
      await this.engine.say(id, `${run.origin === '' ? '' : `${run.origin}: `}Rewind to ${to.at}.`)
      if (run.state === 'Stopped') await this.engine.takeUp(run.id)
    }
    await this.engine.look()
  }

  /** Asks for something to be done with held records of a run; returns the errand's id. */
  async settleHeld(run: string, deed: HeldDeed): Promise<string> {
    const { id, of } = await this.engine.record(run)
    const errand = await this.ask(id, { kind: 'held', held: deed })
    await this.engine.say(of ?? id, heldSaid(deed))
    await this.engine.look()
    return errand
  }

  /** Holds lanes (all, when none is named) against their sources; returns the verification's id. */
  async verify(
    id: string,
    { lanes, level, pace }: Pick<AskedVerification, 'level' | 'pace'> & { lanes: readonly number[] },
  ): Promise<string> {
    const { newId, now } = this.parts.surroundings
    const asked: AskedVerification = {
      id: newId(),
      pipeline: id,
      level,
      pace,
      askedAt: new Date(now()).toISOString(),
      lanes: lanesToVerify(await this.engine.record(id), lanes),
    }
    await this.parts.verifications.ask(asked)
    await this.engine.say(id, verificationSaid(asked))
    for (const run of new Set(asked.lanes.map(lane => lane.run))) await this.ask(run, { kind: 'verify' })
    await this.engine.look()
    return asked.id
  }

  /** Has rows that differ written as they stand at the source; returns the errand's id. */
  async repair(run: string, deed: RepairDeed): Promise<string> {
    const record = await this.engine.record(run)
    const errand = await this.ask(run, { kind: 'repair', repair: deed })
    await this.engine.say(record.of ?? run, repairSaid(deed))
    await this.engine.look()
    return errand
  }

  private async ask(
    pipeline: string,
    {
      kind,
      lanes = [],
      to = null,
      reason = null,
      held = null,
      repair = null,
      send = null,
      twoWay = null,
    }: Pick<Errand, 'kind'> & Partial<Errand>,
  ): Promise<string> {
    const { newId, now } = this.parts.surroundings
    const [id, askedAt] = [newId(), new Date(now()).toISOString()]
    const errand = {
      id,
      pipeline,
      kind,
      lanes,
      to,
      reason,
      held,
      repair,
      send,
      twoWay,
      askedBy: null,
      askedAt,
    }
    await this.parts.errands.ask(errand)
    return id
  }

  /** The log tells details for so many minutes; none: no more. */
  async tellDetails(id: string, minutes: number): Promise<void> {
    await this.engine.record(id)
    const until = this.parts.surroundings.now() + minutes * 60_000
    await this.parts.pipelines.tellDetails(id, minutes > 0 ? new Date(until).toISOString() : null)
    await this.engine.say(
      id,
      minutes > 0 ? `The log tells details for ${minutes} minutes.` : 'The log tells no details any more.',
    )
    await this.engine.look()
  }
}
