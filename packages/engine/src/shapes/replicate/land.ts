/** Lands what was gathered: folded by the source's key, shaped once for each, and written with the checkpoint. */
import type { ApplyTransaction, LaneEffect, TargetSide, Unfilled } from '@tide/connectors/contract/target'
import { shapedEffect, type Folded } from '@tide/core/apply/effect'
import { IdentityFold, type FoldedKey } from '@tide/core/apply/fold'
import { addCounts, type OperationCounts, type Put } from '@tide/core/apply/net-effect'
import type { Checkpoint, Stream } from '@tide/core/checkpoint/checkpoint'
import type { Position } from '@tide/core/position/position'
import type { SourceTransaction } from '@tide/core/records/change'
import type { DeletionGuard, Loss } from '@tide/core/apply/deletion-guard'
import type { Failure } from '@tide/core/failure'
import { noValue } from '@tide/core/shape/misfit'
import { printName } from '@tide/core/records/dataset'
import { isPartial, packRow } from '@tide/core/records/tuple'
import { keyText, type Key, type Row } from '@tide/core/records/value'
import type { ChangeBatch, SourceHead } from '../../journal/batch.ts'
import { findCulprits, isRefusal, without, type TryOn } from './culprits.ts'
import type { Gatherer } from './gather.ts'
import type { HeldRow, Holding } from './holding.ts'
import type { FollowedLane, WorkingLane } from './lanes.ts'

const EVENTS_IN_A_TURN = 5_000

/** What has come to the target. */
export interface Landing {
  to: Position
  head: SourceHead
  changes: number
  /** When the oldest and the newest of the changes were committed; `null` when there were none. */
  oldest: string | null
  newest: string | null
  /** By the lanes' indexes in the pipeline. */
  counts: ReadonlyMap<number, OperationCounts>
  /** Some rows were taken as they stand at the source now. */
  fetched: boolean
}

/** Reads a row of a lane as it stands at the source now, by its key; null when there is none. */
export type FetchRow = (lane: WorkingLane, identity: Key) => Promise<Row | null>

/** Commits what has come in; `write` writes the checkpoint and commits, `counted` has the stream say what is held. */
export type CommitLanding = (
  landing: Landing,
  write: (checkpoint: Checkpoint) => Promise<void>,
  counted: (stream: Stream) => Stream,
) => Promise<void>

/** What a landing works with, beside where it reads. */
export interface LandingParts {
  target: TargetSide
  fetchRow: FetchRow
  clock: () => string
  holding: Holding
  guard: DeletionGuard
  /** Rows of a lane at the target; null: not known. */
  rowsThere: (lane: WorkingLane) => number | null
}

/**
 * Reads what comes next in these lanes and lands it with its checkpoint in one transaction of the target. A source
 * transaction that comes in parts lands whole. Without changes nothing is committed; the landing may still be further on.
 * Where the target will not take some of the rows, those are held, and the rest lands.
 */
export async function landOnce(
  gatherer: Gatherer,
  followed: readonly FollowedLane[],
  from: Position,
  parts: LandingParts,
  commit: CommitLanding,
): Promise<Landing> {
  const attempt = new Attempt(gatherer, followed, parts)
  let some: Some | undefined
  for (let tries = 0; ; tries++) {
    try {
      return await attempt.land(from, commit, some)
    } catch (thrown) {
      if (!(thrown instanceof NotAll)) throw thrown
      if (tries === TRIES) throw thrown.cause
      some = await attempt.whatIsRefused(from, some)
    }
  }
}

/** Others may change the target while it is looked at. */
const TRIES = 3

/** Some rows will not go in: misfits, or what the target has refused, which is the cause. */
class NotAll extends Error {}

/** What is known of changes of which not all will go in. */
interface Some {
  refused: RefusedRows
  /** So many of them land, or those of one transaction. */
  events: number
}

/** By lane and key, why a row is refused. */
type RefusedRows = Map<string, Why>
type Why = Pick<HeldRow, 'column' | 'reason' | 'remedy'>

const refusedId = ({ index }: WorkingLane, identity: Key) => `${index} ${keyText(identity)}`

/** Rounds of looking for rows that are refused, before all suspects are taken for guilty. */
const ROUNDS = 4

class Attempt {
  private readonly gatherer: Gatherer
  private readonly shaping: Shapes
  private readonly parts: LandingParts
  private readonly lanes: readonly WorkingLane[]

  constructor(gatherer: Gatherer, followed: readonly FollowedLane[], parts: LandingParts) {
    this.gatherer = gatherer
    this.parts = parts
    this.lanes = followed.map(({ lane }) => lane)
    this.shaping = new Shapes(parts, this.lanes)
  }

  /** `some`: rows that are held, and how much lands without them. Throws NotAll where others are refused. */
  async land(from: Position, commit: CommitLanding, some: Some | undefined): Promise<Landing> {
    const { gatherer, lanes } = this
    const { target, clock, holding, guard } = this.parts
    const refused: RefusedRows = some?.refused ?? new Map()
    let batch = await gatherer.read(from, some?.events)
    const oldest = batch.transactions[0]?.at ?? null
    const counts = new Map<number, OperationCounts>()
    let [changes, newest, fetched] = [0, oldest, false]
    const kept = new Map<string, HeldRow>()
    const landed = new Map<number, Key[] | 'all'>()
    const truncated = new Set<number>()
    const landing = (): Landing => ({
      to: batch.to,
      head: batch.head,
      changes,
      oldest,
      newest,
      counts,
      fetched,
    })
    if (oldest === null) return landing()
    const writing = await target.begin()
    try {
      for (;;) {
        const { transactions } = batch
        const landedAt = clock()
        // The rest of a transaction may be of tables that are not ours.
        newest = transactions.at(-1)?.at ?? newest
        const folds = await foldByLane(lanes, transactions)
        if (!some) gatherer.readBehind(batch)
        const shaped = this.shaping.shaped(folds, landedAt, refused)
        for (const [lane, fold] of folds) {
          counts.set(lane.index, addCounts(counts.get(lane.index), fold.counts))
          if (fold.truncate) truncated.add(lane.index)
        }
        const fetching = [...shaped.fetching]
        for (const { lane, put } of await this.shaping.apply(writing, shaped.effects))
          fetching.push([laneOf(lanes, lane), put.identity])
        const held = [...shaped.held]
        if (fetching.length > 0) {
          const standing = await this.shaping.asTheyStand(fetching, transactions.at(-1)!, landedAt, refused)
          await this.shaping.apply(writing, standing.effects)
          held.push(...standing.held)
          fetched = true
        }
        noteLanded(landed, folds, holding, kept)
        for (const row of held) kept.set(refusedId(row.lane, row.state.identity), row)
        changes += transactions.reduce((sum, { events }) => sum + events.length, 0)
        if (some ? batch.complete : !gatherer.takesMore(changes, batch)) break
        const next = await nextBatch(gatherer, batch)
        if (!next) break
        batch = next
      }
      const done = landing()
      const rows = [...kept.values()]
      const ended = stillLanded(landed, rows)
      const losses = this.losses(counts, truncated)
      guard.refuse(losses)
      await holding.keep(rows)
      await commit(
        done,
        checkpoint => writing.commit(checkpoint),
        stream => holding.counted(stream, rows, ended),
      )
      guard.landed(losses)
      await holding.committed(rows, ended)
      return done
    } catch (error) {
      await writing.rollback()
      throw error
    }
  }

  /** By how much the lanes that let rows go become smaller. */
  private losses(counts: Landing['counts'], truncated: ReadonlySet<number>): Loss[] {
    return this.lanes.flatMap((lane): Loss[] => {
      const { index, plan, shaper } = lane
      const own = counts.get(index)
      if (shaper.keepsDeleted || (!own && !truncated.has(index))) return []
      const there = this.parts.rowsThere(lane)
      const { inserted = 0, deleted = 0 } = own ?? {}
      const rows = truncated.has(index) ? (there ?? 0) - inserted : deleted - inserted
      return [{ lane: index, table: printName(plan.target), rows, there }]
    })
  }

  /** Looks for the rows that are refused in what comes next: what is read at once, or all parts of a transaction. */
  async whatIsRefused(from: Position, before: Some | undefined): Promise<Some> {
    const refused: RefusedRows = before?.refused ?? new Map()
    const { clock } = this.parts
    let batch = await this.gatherer.read(from, before?.events)
    const events = batch.transactions.reduce((sum, { events }) => sum + events.length, 0)
    for (;;) {
      const { transactions } = batch
      const folds = await foldByLane(this.lanes, transactions)
      const landedAt = clock()
      const { effects, fetching } = this.shaping.shaped(folds, landedAt, refused, (id, why) =>
        refused.set(id, why),
      )
      const unfilled = await this.shaping.search(effects, refused)
      const more = [...fetching, ...unfilled]
      if (more.length > 0 && transactions.length > 0) {
        const standing = await this.shaping.asTheyStand(
          more,
          transactions.at(-1)!,
          landedAt,
          refused,
          (id, why) => refused.set(id, why),
        )
        await this.shaping.search(standing.effects, refused)
      }
      if (batch.complete) return { refused, events }
      batch = await this.gatherer.read(batch.to)
    }
  }
}

/** What changes come to at the target, and which rows it will not take. */
class Shapes {
  private readonly parts: LandingParts
  private readonly lanes: readonly WorkingLane[]

  constructor(parts: LandingParts, lanes: readonly WorkingLane[]) {
    this.parts = parts
    this.lanes = lanes
  }

  /** Puts what the target refuses of the effects to the refused ones; returns rows that it has nothing to fill with. */
  async search(effects: LaneEffect[], refused: RefusedRows): Promise<[WorkingLane, Key][]> {
    const { target, holding } = this.parts
    const unfilled: [WorkingLane, Key][] = []
    const tries: TryOn = async some => {
      unfilled.length = 0
      const writing = await target.begin()
      try {
        for (const { lane, put } of await writing.apply(some))
          unfilled.push([laneOf(this.lanes, lane), put.identity])
        return undefined
      } catch (thrown) {
        if (isRefusal(thrown)) return thrown
        throw thrown
      } finally {
        await writing.rollback()
      }
    }
    let left = effects
    for (let round = 1; ; round++) {
      const failure = await tries(left)
      if (!failure) return unfilled
      const culprits = await findCulprits(left, tries, holding.most, round === ROUNDS)
      if (culprits.length === 0 && round < ROUNDS) continue
      if (culprits.length === 0 || round > ROUNDS) throw failure
      for (const { effect, put, removed, failure } of culprits) {
        const lane = laneOf(this.lanes, left[effect]!.lane)
        const identity = put?.identity ?? removed!
        refused.set(refusedId(lane, identity), whyOf(lane, failure))
      }
      left = without(left, culprits)
    }
  }

  async apply(writing: ApplyTransaction, effects: LaneEffect[]): Promise<Unfilled[]> {
    try {
      return await writing.apply(effects)
    } catch (thrown) {
      if (isRefusal(thrown)) throw new NotAll(thrown.message, { cause: thrown })
      throw thrown
    }
  }

  /**
   * What the folds come to, without the rows that are refused. `note`: is told of misfits; without it they are thrown, unless they
   * are among the refused.
   */
  shaped(
    folds: ReadonlyMap<WorkingLane, Folded>,
    landedAt: string,
    refused: RefusedRows,
    note?: (id: string, why: Why) => void,
  ): { effects: LaneEffect[]; fetching: [WorkingLane, Key][]; held: HeldRow[] } {
    const { holding } = this.parts
    const effects: LaneEffect[] = []
    const fetching: [WorkingLane, Key][] = []
    const held: HeldRow[] = []
    for (const [lane, fold] of folds) {
      const states = new Map<string, FoldedKey>()
      const keys: FoldedKey[] = []
      const watched = refused.size > 0 || note !== undefined
      for (const state of fold.keys) {
        if (watched) states.set(keyText(state.identity), state)
        const { after, identity, from } = state
        // What was not sent cannot be taken from a row that is not as it should be.
        const stale =
          after !== undefined &&
          (holding.differs(lane, identity) || (from !== undefined && holding.differs(lane, from))) &&
          isPartial(after)
        if (stale) fetching.push([lane, identity])
        else keys.push(state)
      }
      const { effect, needs, misfits } = shapedEffect(
        { truncate: fold.truncate, truncatedAt: fold.truncatedAt, fresh: fold.fresh, keys },
        lane.shaper,
        landedAt,
      )
      for (const { identity } of needs) fetching.push([lane, identity])
      for (const { identity, misfit } of misfits) {
        if (misfit.untold) throw noValue(lane.plan, misfit.column, misfit.reason, identity)
        const id = refusedId(lane, identity)
        const why = { column: misfit.column, reason: misfit.reason, remedy: MISFIT_REMEDY }
        if (note) note(id, why)
        else if (!refused.has(id))
          throw new NotAll(misfit.reason, {
            cause: noValue(lane.plan, misfit.column, misfit.reason, identity),
          })
        if (note) continue
        held.push({ lane, state: states.get(keyText(identity))!, row: undefined, ...refused.get(id)! })
      }
      if (refused.size === 0) {
        effects.push({ lane: lane.target, effect })
        continue
      }
      const puts: Put[] = []
      for (const put of effect.puts) {
        const why = refused.get(refusedId(lane, put.identity))
        if (why && !note) held.push({ lane, state: states.get(keyText(put.identity))!, row: put.row, ...why })
        if (!why) puts.push(put)
      }
      const removed: Key[] = []
      for (const key of effect.removed) {
        // By their keys at the target: where those are others, rows that are removed are not held.
        const why = lane.shaper.keyIsIdentity ? refused.get(refusedId(lane, key)) : undefined
        const state = states.get(keyText(key))
        if (!why || !state || state.after) removed.push(key)
        else if (!note) held.push({ lane, state, row: undefined, ...why })
      }
      const whole = { ...effect, puts, removed }
      delete whole.fresh
      effects.push({ lane: lane.target, effect: whole })
    }
    return { effects, fetching, held }
  }

  /**
   * Where values were not sent and the target has no row to take them from (the row moved while its table was copied,
   * or somebody removed it there), the row is taken as it stands at the source now. When there is none any more, its
   * removal comes later in the log.
   */
  async asTheyStand(
    fetching: readonly [WorkingLane, Key][],
    transaction: SourceTransaction,
    landedAt: string,
    refused: RefusedRows,
    note?: Parameters<Shapes['shaped']>[3],
  ): Promise<{ effects: LaneEffect[]; held: HeldRow[] }> {
    const states = new Map<WorkingLane, FoldedKey[]>()
    for (const [lane, identity] of fetching) {
      const row = await this.parts.fetchRow(lane, identity)
      // Under another key than its own it has gone from there already.
      if (!row && lane.shaper.keyBeyond.length > 0) continue
      const state = standingState(identity, row, transaction)
      const others = states.get(lane)
      if (others) others.push(state)
      else states.set(lane, [state])
    }
    const folds = new Map(
      [...states].map(([lane, keys]): [WorkingLane, Folded] => [
        lane,
        { truncate: false, fresh: false, keys },
      ]),
    )
    return this.shaped(folds, landedAt, refused, note)
  }
}

/** A row as it stands at the source now, as a change of it would leave it. */
export function standingState(
  identity: Key,
  row: Row | null,
  transaction: SourceTransaction,
  op: FoldedKey['op'] = 'update',
): FoldedKey {
  const after = row ? packRow(row) : undefined
  return {
    identity,
    after,
    from: undefined,
    before: undefined,
    // What is not in scope goes from where it would stand.
    images: after ? [after] : undefined,
    untold: false,
    transaction,
    number: 0,
    op,
  }
}

/**
 * Lands rows of a lane as they stand, each by a state of its own; those that the target will not take are held. `commit` is
 * given what `landOnce` gives.
 */
export async function landStates(
  lane: WorkingLane,
  states: readonly FoldedKey[],
  parts: LandingParts,
  commit: (
    landed: number,
    write: (checkpoint: Checkpoint) => Promise<void>,
    counted: (stream: Stream) => Stream,
  ) => Promise<void>,
): Promise<void> {
  const { target, holding, clock } = parts
  const shaping = new Shapes(parts, [lane])
  const folds = new Map<WorkingLane, Folded>([[lane, { truncate: false, fresh: false, keys: states }]])
  const refused: RefusedRows = new Map()
  for (let tries = 0; ; tries++) {
    const writing = await target.begin()
    try {
      const { effects, held } = shaping.shaped(folds, clock(), refused)
      await shaping.apply(writing, effects)
      const kept = new Map<string, HeldRow>()
      const landed = new Map<number, Key[] | 'all'>()
      noteLanded(landed, folds, holding, kept)
      const ended = stillLanded(landed, held)
      await holding.keep(held)
      await commit(
        states.length - held.length,
        checkpoint => writing.commit(checkpoint),
        stream => holding.counted(stream, held, ended),
      )
      await holding.committed(held, ended)
      return
    } catch (thrown) {
      await writing.rollback()
      if (!(thrown instanceof NotAll)) throw thrown
      if (tries === TRIES) throw thrown.cause
    }
    const { effects } = shaping.shaped(folds, clock(), refused, (id, why) => refused.set(id, why))
    await shaping.search(effects, refused)
  }
}

/** Keys of rows that were held and stand there now. */
function noteLanded(
  landed: Map<number, Key[] | 'all'>,
  folds: ReadonlyMap<WorkingLane, Folded>,
  holding: Holding,
  kept: Map<string, HeldRow>,
): void {
  for (const [lane, fold] of folds) {
    const { index } = lane
    if (fold.truncate) {
      landed.set(index, 'all')
      for (const [id, row] of kept) if (row.lane === lane) kept.delete(id)
    }
    for (const { identity } of fold.keys) {
      const id = refusedId(lane, identity)
      if (!kept.delete(id) && !holding.differs(lane, identity)) continue
      const keys = landed.get(index)
      if (keys === 'all') continue
      if (keys) keys.push(identity)
      else landed.set(index, [identity])
    }
  }
}

/** Without those that are held in the end. */
function stillLanded(
  landed: ReadonlyMap<number, Key[] | 'all'>,
  kept: readonly HeldRow[],
): Map<number, Key[] | 'all'> {
  if (kept.length === 0) return new Map(landed)
  const held = new Set(kept.map(({ lane, state }) => refusedId(lane, state.identity)))
  return new Map(
    [...landed].map(([index, keys]) => [
      index,
      keys === 'all' ? keys : keys.filter(key => !held.has(`${index} ${keyText(key)}`)),
    ]),
  )
}

/** What a target says of a row, without the table and the key, which are told beside it. */
export function whyOf({ target }: WorkingLane, { message }: Failure): Why {
  const table = printName(target.table)
  const column = target.columns.find(({ name }) => message.startsWith(`${table}.${name}: `))?.name ?? null
  const where = column === null ? `${table}: ` : `${table}.${column}: `
  const said = message.startsWith(where) ? message.slice(where.length) : message
  const reason = said.replace(/, in the row with .*$/s, '').replace(/\.$/, '')
  return { column, reason, remedy: REFUSED_REMEDY }
}

const REFUSED_REMEDY = 'Correct it at the source, or here for the target alone, or let it be.'
const MISFIT_REMEDY = 'Correct the row at the source, or change how the column is made.'

/** `undefined` when it cannot be read, and what came before is whole: that lands first, and then it is said why. */
async function nextBatch(
  gatherer: Gatherer,
  { to, complete }: ChangeBatch,
): Promise<ChangeBatch | undefined> {
  try {
    return await gatherer.read(to)
  } catch (thrown) {
    if (!complete) throw thrown
    return undefined
  }
}

function foldOf({ identityIndexes, shaper }: WorkingLane): IdentityFold {
  return new IdentityFold(identityIndexes, shaper.keyIsIdentity ? undefined : shaper.keyBeyond)
}

/** In between, others get their turn: a large batch would hold the process up for longer than anybody should wait. */
async function foldByLane(
  lanes: readonly WorkingLane[],
  transactions: readonly SourceTransaction[],
): Promise<Map<WorkingLane, IdentityFold>> {
  const folds = new Array<IdentityFold | undefined>(lanes.length)
  let sinceTurn = 0
  for (const transaction of transactions) {
    for (const event of transaction.events) {
      const fold = (folds[event.lane] ??= foldOf(lanes[event.lane]!))
      fold.add(event, transaction)
      if (++sinceTurn < EVENTS_IN_A_TURN) continue
      sinceTurn = 0
      await new Promise(resolve => setImmediate(resolve))
    }
  }
  return new Map(lanes.flatMap((lane, i) => (folds[i] ? [[lane, folds[i]]] : [])))
}

function laneOf(lanes: readonly WorkingLane[], target: Unfilled['lane']): WorkingLane {
  return lanes.find(lane => lane.target === target)!
}
