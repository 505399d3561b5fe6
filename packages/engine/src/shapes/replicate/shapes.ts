/** What changes come to at the target, and which rows it will not take. */
import type { ApplyTransaction, LaneEffect, Unfilled } from '@tide/connectors/contract/target'
import { shapedEffect, type Folded } from '@tide/core/apply/effect'
import type { FoldedKey } from '@tide/core/apply/fold'
import type { Put } from '@tide/core/apply/net-effect'
import type { SourceTransaction } from '@tide/core/records/change'
import { isPartial, packRow } from '@tide/core/records/tuple'
import { keyText, type Key, type Row } from '@tide/core/records/value'
import { noValue } from '@tide/core/shape/misfit'
import { findCulprits, isRefusal, without, type TryOn } from './culprits.ts'
import type { HeldRow } from './holding.ts'
import type { LandingParts } from './landing-parts.ts'
import type { WorkingLane } from './lanes.ts'
import { MISFIT_REMEDY, NotAll, refusedId, whyOf, type RefusedRows, type Why } from './refused.ts'

/** Rounds of looking for rows that are refused, before it is given up. */
const ROUNDS = 6

export class Shapes {
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
    // Where nobody is guilty for sure, all suspects are.
    let unsure = false
    for (let round = 1; ; round++) {
      const failure = await tries(left)
      if (!failure) return unfilled
      const culprits = await findCulprits(left, tries, holding.most, unsure)
      if (round === ROUNDS || (unsure && culprits.length === 0)) throw failure
      unsure = culprits.length === 0
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

export function laneOf(lanes: readonly WorkingLane[], target: Unfilled['lane']): WorkingLane {
  return lanes.find(lane => lane.target === target)!
}
