/** Lands what was gathered: folded by the source's key, shaped once for each, and written with the checkpoint. */
import type { LaneEffect, TargetSide, Unfilled } from '@tide/connectors/contract/target'
import { shapedEffect, type ShapedEffect } from '@tide/core/apply/effect'
import { IdentityFold, type FoldedKey } from '@tide/core/apply/fold'
import { addCounts, type OperationCounts } from '@tide/core/apply/net-effect'
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { Position } from '@tide/core/position/position'
import type { SourceTransaction } from '@tide/core/records/change'
import { noValue } from '@tide/core/shape/misfit'
import { packRow } from '@tide/core/records/tuple'
import type { Key, Row } from '@tide/core/records/value'
import type { ChangeBatch, SourceHead } from '../../journal/batch.ts'
import type { Gatherer } from './gather.ts'
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

/** Commits what has come in; `write` writes the checkpoint and commits. */
export type CommitLanding = (
  landing: Landing,
  write: (checkpoint: Checkpoint) => Promise<void>,
) => Promise<void>

/**
 * Reads what comes next in these lanes and lands it with its checkpoint in one transaction of the target. A source
 * transaction that comes in parts lands whole. Without changes nothing is committed; the landing may still be further on.
 */
export async function landOnce(
  gatherer: Gatherer,
  target: TargetSide,
  followed: readonly FollowedLane[],
  from: Position,
  fetchRow: FetchRow,
  clock: () => string,
  commit: CommitLanding,
): Promise<Landing> {
  const lanes = followed.map(({ lane }) => lane)
  let batch = await gatherer.read(from)
  const oldest = batch.transactions[0]?.at ?? null
  const counts = new Map<number, OperationCounts>()
  let [changes, newest, fetched] = [0, oldest, false]
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
      gatherer.readBehind(batch)
      const effects: LaneEffect[] = []
      const fetching: [WorkingLane, Key][] = []
      for (const [lane, fold] of folds) {
        const { effect, needs, misfits } = shapedEffect(fold, lane.shaper, landedAt)
        refuseMisfits(lane, misfits)
        effects.push({ lane: lane.target, effect })
        for (const { identity } of needs) fetching.push([lane, identity])
        counts.set(lane.index, addCounts(counts.get(lane.index), fold.counts))
      }
      for (const { lane, put } of await writing.apply(effects))
        fetching.push([laneOf(lanes, lane), put.identity])
      if (fetching.length > 0) {
        await writing.apply(await asTheyStand(fetching, transactions.at(-1)!, fetchRow, landedAt))
        fetched = true
      }
      changes += transactions.reduce((sum, { events }) => sum + events.length, 0)
      if (!gatherer.takesMore(changes, batch)) break
      const next = await nextBatch(gatherer, batch)
      if (!next) break
      batch = next
    }
    const landed = landing()
    await commit(landed, checkpoint => writing.commit(checkpoint))
    return landed
  } catch (error) {
    await writing.rollback()
    throw error
  }
}

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

/**
 * Where values were not sent and the target has no row to take them from (the row moved while its table was copied,
 * or somebody removed it there), the row is taken as it stands at the source now. When there is none any more, its
 * removal comes later in the log.
 */
async function asTheyStand(
  fetching: readonly [WorkingLane, Key][],
  transaction: SourceTransaction,
  fetchRow: FetchRow,
  landedAt: string,
): Promise<LaneEffect[]> {
  const states = new Map<WorkingLane, FoldedKey[]>()
  for (const [lane, identity] of fetching) {
    const row = await fetchRow(lane, identity)
    // Under another key than its own it has gone from there already.
    if (!row && lane.shaper.keyBeyond.length > 0) continue
    const state: FoldedKey = {
      identity,
      after: row ? packRow(row) : undefined,
      from: undefined,
      before: undefined,
      // What is not in scope goes from where it would stand.
      images: row ? [packRow(row)] : undefined,
      untold: false,
      transaction,
      number: 0,
      op: 'update',
    }
    const others = states.get(lane)
    if (others) others.push(state)
    else states.set(lane, [state])
  }
  return [...states].map(([lane, keys]) => {
    const { effect, misfits } = shapedEffect({ truncate: false, fresh: false, keys }, lane.shaper, landedAt)
    refuseMisfits(lane, misfits)
    return { lane: lane.target, effect }
  })
}

export function refuseMisfits({ plan }: WorkingLane, misfits: ShapedEffect['misfits']): void {
  const [first] = misfits
  if (first) throw noValue(plan, first.misfit.column, first.misfit.reason, first.identity)
}

function laneOf(lanes: readonly WorkingLane[], target: Unfilled['lane']): WorkingLane {
  return lanes.find(lane => lane.target === target)!
}
