/** How many rows both sides have, of the same moment. */
import type { Session } from '@tide/connectors/contract/session'
import type { WorkingLane } from '../lanes.ts'
import { clockOf } from './sides.ts'
import type { LaneWork } from './work.ts'

const ROUNDS = 5
const COUNT_MS = 3_600_000

/** The target is counted between two equal counts of the source; null where the source never stood still for that. */
export async function countBoth(
  work: LaneWork,
  { from, to }: { from: Session; to: Session },
  lane: WorkingLane,
): Promise<void> {
  const clock = clockOf(from)
  const limits = { maxRows: 1, maxBytes: 1000, timeoutMs: COUNT_MS, signal: work.signal }
  const atSource = () => from.count(lane.source.dataset, limits)
  let before = await atSource()
  for (let round = 0; round < ROUNDS; round++) {
    await work.landed(await clock())
    const atTarget = await to.target!.count(lane.target)
    const after = await atSource()
    await work.tell({ ...work.verified, level: 'counts', atTarget })
    // Also where the target was as one of the two is: what came between had landed, or not yet.
    if (before === after || atTarget === after || atTarget === before) {
      await work.tell({ ...work.verified, atSource: before === after ? after : atTarget })
      return
    }
    before = after
  }
  await work.tell({ ...work.verified, atSource: null })
}
