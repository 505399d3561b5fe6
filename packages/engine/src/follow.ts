import type { ChangeBatch, Checkpoint, LaneEffect, TargetSide, Unfilled } from '@tide/connectors/contract'
import { NetEffectFold, type OperationCounts } from '@tide/core/apply/net-effect'
import type { Position } from '@tide/core/position/position'
import type { SourceTransaction } from '@tide/core/records/change'
import type { Key, Row } from '@tide/core/records/value'
import type { FollowedLane, WorkingLane } from './lanes.ts'
import type { BatchReader } from './batches.ts'

/** What has come to the target. */
export interface Landing {
  to: Position
  head: ChangeBatch['head']
  changes: number
  /** When the oldest and the newest of the changes were committed; `null` when there were none. */
  oldest: string | null
  newest: string | null
  /** By the lanes' places in the pipeline. */
  counts: ReadonlyMap<number, OperationCounts>
  /** Some rows were taken as they stand at the source now. */
  fetched: boolean
}

/** Reads a row of a lane as it stands at the source now, by its key; null when there is none. */
export type FetchRow = (lane: WorkingLane, key: Key) => Promise<Row | null>

/** Commits what has come in; `write` writes the checkpoint and commits. */
export type CommitLanding = (
  landing: Landing,
  write: (checkpoint: Checkpoint) => Promise<void>,
) => Promise<void>

/**
 * Reads what comes next in these lanes and lands it with its checkpoint in one transaction of the target. A source
 * transaction that comes in parts lands whole. Without changes nothing is committed; the landing may still be further on.
 */
export async function followOnce(
  reader: BatchReader,
  target: TargetSide,
  followed: readonly FollowedLane[],
  from: Position,
  fetchRow: FetchRow,
  commit: CommitLanding,
): Promise<Landing> {
  const lanes = followed.map(({ lane }) => lane)
  let batch = await reader.read(from)
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
      // The rest of a transaction may be of tables that are not ours.
      newest = batch.transactions.at(-1)?.at ?? newest
      const folds = fold(lanes, batch.transactions)
      reader.readBehind(batch)
      const unfilled = await writing.apply(
        [...folds].map(([lane, fold]) => ({ lane: lane.target, effect: fold.result() })),
      )
      if (unfilled.length > 0) {
        await writing.apply(await refetched(lanes, unfilled, fetchRow))
        fetched = true
      }
      for (const [{ place }, fold] of folds) counts.set(place, sum(counts.get(place), fold.counts))
      changes += batch.transactions.reduce((sum, { events }) => sum + events.length, 0)
      if (batch.complete) break
      batch = await reader.read(batch.to)
    }
    const landed = landing()
    await commit(landed, checkpoint => writing.commit(checkpoint))
    return landed
  } catch (error) {
    await writing.rollback()
    throw error
  }
}

/**
 * Where values were not sent and the target has no row to take them from (the row moved while its table was copied,
 * or somebody removed it there), the row is taken as it stands at the source now. When there is none any more, its
 * removal comes later in the log.
 */
async function refetched(
  lanes: readonly WorkingLane[],
  unfilled: readonly Unfilled[],
  fetchRow: FetchRow,
): Promise<LaneEffect[]> {
  const effects: LaneEffect[] = []
  for (const { lane, put } of unfilled) {
    const row = await fetchRow(
      lanes.find(({ target }) => target === lane)!,
      put.key,
    )
    const effect = {
      truncate: false,
      removed: row ? [] : [put.key],
      puts: row ? [{ key: put.key, row }] : [],
    }
    effects.push({ lane, effect })
  }
  return effects
}

function fold(
  lanes: readonly WorkingLane[],
  transactions: readonly SourceTransaction[],
): Map<WorkingLane, NetEffectFold> {
  const folds = new Map<WorkingLane, NetEffectFold>()
  for (const { events } of transactions) {
    for (const event of events) {
      const lane = lanes[event.lane]!
      let fold = folds.get(lane)
      if (!fold) folds.set(lane, (fold = new NetEffectFold(lane.keyIndexes)))
      fold.add(event)
    }
  }
  return folds
}

function sum(a: OperationCounts | undefined, b: OperationCounts): OperationCounts {
  if (!a) return b
  return {
    inserted: a.inserted + b.inserted,
    updated: a.updated + b.updated,
    deleted: a.deleted + b.deleted,
  }
}
