/** Follows with the lanes that stand together, for as long as nothing else is wanted. */
import type { Checkpoint } from '@tide/connectors/contract'
import type { LanesApart } from './apart.ts'
import { neededFrom, withLanding } from './checkpoint.ts'
import { followOnce } from './follow.ts'
import { sourceLanesOf, type FollowedLane } from './lanes.ts'
import { BatchReader } from './batches.ts'
import { POLL_MS, writeCheckpoint, type OpenPipeline } from './open.ts'
import type { Surroundings } from './repositories.ts'

/** How often the source may forget, and a quiet checkpoint is written. */
const ACKNOWLEDGE_MS = 2_000
const QUIET_CHECKPOINT_MS = 10_000
/** How often rows at the target are counted; less often where that takes long. */
const COUNT_MS = 2_000
const COUNT_SHARE = 0.02

export interface FollowingTold {
  /** Source and target have answered. */
  succeeded(): void
  counted(place: number, rows: number): void
}

/** `apart`: lanes that join when they are ready. */
export async function follow(
  open: OpenPipeline,
  apart: LanesApart | undefined,
  { now, sleep }: Surroundings,
  told: FollowingTold,
  signal: AbortSignal,
): Promise<void> {
  const { id, source, target, checkpoint, fetchRow, meter } = open
  let [acknowledgedAt, countNext, wrote, measured] = [0, 0, now(), 0]
  let acknowledged: Checkpoint | undefined
  let counting: Promise<void> | undefined
  let together = lanesTogether(open)
  let reader = new BatchReader(id, source, together)
  try {
    while (!signal.aborted) {
      if (apart?.ready) {
        await apart.join()
        apart = undefined
        await reader.end()
        together = lanesTogether(open)
        reader = new BatchReader(id, source, together)
        countNext = 0 // their rows were counted when they were not all there
      }
      const from = checkpoint.now.position
      const landing = await followOnce(reader, target, together, from, fetchRow, async (landing, write) => {
        await checkpoint.commit(now => withLanding(now, landing), write)
        wrote = now()
        meter.sawHead({
          ...landing.head,
          pendingChanges: landing.head.pendingChanges + landing.changes,
        })
        meter.sawLanding(landing.changes, landing.oldest!)
      })
      if (landing.oldest === null) await checkpoint.note(now => withLanding(now, landing))
      told.succeeded()
      meter.sawHead(landing.head)
      // The head of a long backlog stands still while it is worked off; what came since is counted now and then.
      if (landing.head.pendingChanges > 0 && !reader.readsAhead && now() - measured > 1000) {
        measured = now()
        meter.sawHead(await source.head(id, sourceLanesOf(together), checkpoint.now.position))
      }
      // Others read the checkpoint at the target: that a lane has become consistent is told at once.
      const turnedConsistent = checkpoint.now.consistent && !checkpoint.written.consistent
      const behind = checkpoint.now !== checkpoint.written
      if (turnedConsistent || (behind && now() - wrote > QUIET_CHECKPOINT_MS)) {
        await writeCheckpoint(open)
        wrote = now()
      }
      const { written } = checkpoint
      if (written !== acknowledged && now() - acknowledgedAt > ACKNOWLEDGE_MS) {
        await source.acknowledge(id, neededFrom(written))
        acknowledged = written
        acknowledgedAt = now()
      }
      // A large table takes its time to count, and changes must not wait for it.
      if (!counting && now() > countNext) {
        const began = now()
        counting = countRows(open, told).finally(() => {
          countNext = now() + Math.max(COUNT_MS, (now() - began) / COUNT_SHARE)
          counting = undefined
        })
      }
      if (landing.oldest !== null) continue
      if (source.news) await source.news(POLL_MS, signal)
      else await sleep(POLL_MS, signal)
    }
  } finally {
    await reader.end()
    await counting
  }
}

/** What cannot be counted now is counted later; when the target is away, following finds it out. */
async function countRows({ lanes, target }: OpenPipeline, told: FollowingTold): Promise<void> {
  for (const { place, target: lane } of lanes) {
    const rows = await target.count(lane.table).catch(() => undefined)
    if (rows === undefined) return
    told.counted(place, rows)
  }
}

/** The lanes that stand where the checkpoint says. */
export function lanesTogether({ lanes, checkpoint }: OpenPipeline): FollowedLane[] {
  return lanes.flatMap(lane => {
    const { own, since } = checkpoint.now.lanes[lane.place]!
    return own ? [] : [{ lane, since }]
  })
}
