import type { LaneEffect } from '@tide/connectors/contract/target'
import type { Put } from '@tide/core/apply/net-effect'
import { compareWithin } from '@tide/core/position/order'
import type { SourceTransaction } from '@tide/core/records/change'
import type { Key } from '@tide/core/records/value'
import { RowPack } from '@tide/core/records/tuple'
import type { FollowedLane } from './lanes.ts'

const NO_KEY: Key = []

/** What the transactions leave in the history tables; changes that are there already are left out. */
export function historyEffects(
  followed: readonly FollowedLane[],
  transactions: readonly SourceTransaction[],
  landedAt: string,
): LaneEffect[] {
  const puts = new Map<FollowedLane, Put[]>()
  if (!followed.some(({ lane }) => lane.history)) return []
  const pack = new RowPack()
  for (const transaction of transactions) {
    for (const event of transaction.events) {
      const one = followed[event.lane]!
      const { lane, kept } = one
      if (!lane.history || (kept && compareWithin(kept.kind, transaction.start, kept.at) === 'before'))
        continue
      const row = lane.history.row(event, transaction, landedAt, pack)
      if (!row) continue
      const put: Put = { key: NO_KEY, identity: NO_KEY, row }
      const others = puts.get(one)
      if (others) others.push(put)
      else puts.set(one, [put])
    }
  }
  return [...puts].map(([{ lane }, rows]) => ({
    lane: lane.history!.target,
    effect: { truncate: false, removed: [], puts: rows, append: true },
  }))
}
