import type {
  ChangeBatch,
  Checkpoint,
  LaneEffect,
  SourceSide,
  TargetSide,
  Unfilled,
} from '@tide/connectors/contract'
import { NetEffectFold } from '@tide/core/apply/net-effect'
import type { SourceTransaction } from '@tide/core/records/change'
import type { Key, Row } from '@tide/core/records/value'
import type { WorkingLane } from './lanes.ts'

/** Enough to make a merge worth its fixed cost; a source gives fewer where their values would not stay small in memory. */
const EVENTS_AT_ONCE = 20_000

export interface Landing {
  checkpoint: Checkpoint
  head: ChangeBatch['head']
  changes: number
  /** When the oldest of the changes was committed; `null` when there were none. */
  oldest: string | null
}

/** Reads a row of a lane as it stands at the source now, by its key; null when there is none. */
export type FetchRow = (lane: WorkingLane, key: Key) => Promise<Row | null>

/**
 * Reads what comes next and lands it with its checkpoint in one transaction of the target. A source transaction that
 * comes in parts lands whole. Without changes nothing is written; the returned checkpoint may still be further on.
 */
export async function followOnce(
  pipeline: string,
  source: SourceSide,
  target: TargetSide,
  lanes: readonly WorkingLane[],
  from: Checkpoint,
  fetchRow: FetchRow,
): Promise<Landing> {
  const sourceLanes = lanes.map(({ source }, i) => ({ ...source, since: from.lanes[i]!.since }))
  let batch = await source.read(pipeline, sourceLanes, from.position, EVENTS_AT_ONCE)
  const oldest = batch.transactions[0]?.at ?? null
  const idle: Landing = { checkpoint: advanced(from, batch), head: batch.head, changes: 0, oldest: null }
  if (oldest === null) return idle
  const writing = await target.begin()
  try {
    let checkpoint = from
    let changes = 0
    let at = oldest
    for (;;) {
      // The rest of a transaction may be of tables that are not ours.
      at = batch.transactions.at(-1)?.at ?? at
      const folds = fold(lanes, batch.transactions)
      const unfilled = await writing.apply(
        [...folds].map(([i, fold]) => ({ lane: lanes[i]!.target, effect: fold.result() })),
      )
      if (unfilled.length > 0) {
        await writing.apply(await fetched(lanes, unfilled, fetchRow))
        // They are as of now, so the target is ahead of its position until the source's head is reached.
        checkpoint = { ...checkpoint, consistent: false }
      }
      checkpoint = counted(advanced(checkpoint, batch), folds, at)
      changes += batch.transactions.reduce((sum, { events }) => sum + events.length, 0)
      if (batch.complete) break
      batch = await source.read(pipeline, sourceLanes, batch.to, EVENTS_AT_ONCE)
    }
    await writing.commit(checkpoint)
    return { checkpoint, head: batch.head, changes, oldest }
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
async function fetched(
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
): Map<number, NetEffectFold> {
  const folds = new Map<number, NetEffectFold>()
  for (const { events } of transactions) {
    for (const event of events) {
      let fold = folds.get(event.lane)
      if (!fold) folds.set(event.lane, (fold = new NetEffectFold(lanes[event.lane]!.keyIndexes)))
      fold.add(event)
    }
  }
  return folds
}

function advanced(checkpoint: Checkpoint, { to, head, transactions }: ChangeBatch): Checkpoint {
  const reached = head.oldestPending === null && head.completeUpTo !== null
  return {
    ...checkpoint,
    position: to,
    completeUpTo: reached ? head.completeUpTo! : (transactions.at(-1)?.at ?? checkpoint.completeUpTo),
    consistent: checkpoint.consistent || reached,
  }
}

function counted(checkpoint: Checkpoint, folds: ReadonlyMap<number, NetEffectFold>, at: string): Checkpoint {
  const lanes = checkpoint.lanes.map((lane, i) => {
    const counts = folds.get(i)?.counts
    if (!counts) return lane
    return {
      ...lane,
      inserted: lane.inserted + counts.inserted,
      updated: lane.updated + counts.updated,
      deleted: lane.deleted + counts.deleted,
      lastChange: at,
    }
  })
  return { ...checkpoint, lanes }
}
