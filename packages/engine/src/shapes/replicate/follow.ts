/** Follows with the lanes that stand together, for as long as nothing else is wanted. */
import type { Stream } from '@tide/core/checkpoint/checkpoint'
import type { Surroundings } from '../../repositories.ts'
import { landingSaid, noteLanding } from './account.ts'
import { neededFrom, withLanding } from './checkpoint.ts'
import type { DetachedLanes } from './detached.ts'
import { Gatherer } from './gather.ts'
import { landOnce, type Landing } from './land.ts'
import type { FollowedLane } from './lanes.ts'
import { sweep, sweepsDue } from './sweep.ts'
import { POLL_MS, writeCheckpoint, type OpenPipeline } from './open.ts'

/** How often the source may forget. */
const ACKNOWLEDGE_MS = 2_000
/** How often rows at the target are counted; less often where that takes long. */
const COUNT_MS = 2_000
const COUNT_SHARE = 0.02
/** Before a stop, what waits lands for so long. */
const REST_MS = 10_000

export interface FollowingTold {
  /** Source and target have answered. */
  succeeded(): void
  counted(lane: number, rows: number): void
}

/** `detached`: lanes that join when they are ready. */
export async function follow(
  open: OpenPipeline,
  detached: DetachedLanes | undefined,
  { now }: Surroundings,
  told: FollowingTold,
  signal: AbortSignal,
): Promise<void> {
  const { id, source, gathering, checkpoint, meter } = open
  let [acknowledgedAt, countNext, wrote, measured] = [0, 0, now(), 0]
  let acknowledged: Stream | undefined
  let counting: Promise<void> | undefined
  let together = lanesTogether(open)
  const gather = () => new Gatherer(source, together, gathering)
  let gatherer = gather()
  try {
    while (!signal.aborted) {
      if (detached?.ready) {
        await detached.join()
        detached = undefined
        await gatherer.end()
        together = lanesTogether(open)
        gatherer = gather()
        countNext = 0 // their rows were counted when they were not all there
      }
      for (const lane of sweepsDue(
        open,
        together.map(({ lane }) => lane),
      ))
        await sweep(open, lane, signal)
      const from = checkpoint.now.position
      if (!open.lands.now && !(await gatherer.isDue(from))) {
        told.succeeded()
        meter.sawHead(await gatherer.head(from))
        await source.news(POLL_MS, signal)
        continue
      }
      open.lands.now = false
      const landing = await landNext(open, gatherer, together, now)
      if (landing.oldest !== null) wrote = now()
      told.succeeded()
      meter.sawHead(landing.head)
      // The head of a long backlog stands still while it is worked off; what came since is counted now and then.
      if (landing.head.pendingChanges > 0 && !gatherer.readsAhead && now() - measured > 1000) {
        measured = now()
        meter.sawHead(await gatherer.head(checkpoint.now.position))
      }
      // Others read the checkpoint at the target: that a lane has become consistent is told at once.
      const turnedConsistent = checkpoint.now.consistent && !checkpoint.written.consistent
      const behind = checkpoint.now !== checkpoint.written
      if (turnedConsistent || (behind && now() - wrote > open.quietMs)) {
        await writeCheckpoint(open)
        wrote = now()
      }
      const { written } = checkpoint
      if (written !== acknowledged && now() - acknowledgedAt > ACKNOWLEDGE_MS) {
        await source.acknowledge(id, neededFrom(written))
        acknowledged = written
        open.detail(() => ({ message: `The journal may forget what is before ${neededFrom(written).at}.` }))
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
      await source.news(POLL_MS, signal)
    }
  } finally {
    await gatherer.end()
    await counting
  }
}

/** Lands what comes next, or notes how far there is nothing. */
async function landNext(
  open: OpenPipeline,
  gatherer: Gatherer,
  together: readonly FollowedLane[],
  now: Surroundings['now'],
): Promise<Landing> {
  const { checkpoint, meter } = open
  const began = now()
  const from = checkpoint.now.position
  const landing = await landOnce(gatherer, together, from, open, async (landing, write, counted) => {
    await checkpoint.commit(now => counted(withLanding(now, landing)), write)
    meter.sawHead({
      ...landing.head,
      pendingChanges: landing.head.pendingChanges + landing.changes,
    })
    meter.sawLanding(landing.changes, landing.oldest!)
  })
  if (landing.oldest === null) await checkpoint.note(now => withLanding(now, landing))
  else {
    noteLanding(open, landing, began)
    open.detail(() => landingSaid(open, landing, now() - began))
  }
  return landing
}

/** What has been gathered so far, and would be lost with the journal; gives up when that takes long. */
export async function landRest(open: OpenPipeline, now: Surroundings['now']): Promise<void> {
  if (open.gathering.waitMs === 0) return
  const end = now() + REST_MS
  const together = lanesTogether(open)
  const gatherer = new Gatherer(open.source, together, open.gathering)
  try {
    while (now() < end && (await gatherer.head(open.checkpoint.now.position)).pendingChanges > 0)
      await landNext(open, gatherer, together, now)
  } finally {
    await gatherer.end()
  }
}

/** What cannot be counted now is counted later; when the target is away, following finds it out. */
async function countRows({ lanes, target }: OpenPipeline, told: FollowingTold): Promise<void> {
  for (const { index, target: lane } of lanes) {
    const rows = await target.count(lane).catch(() => undefined)
    if (rows === undefined) return
    told.counted(index, rows)
  }
}

/** The lanes that stand where the checkpoint says. */
export function lanesTogether({ lanes, checkpoint }: OpenPipeline): FollowedLane[] {
  return lanes.flatMap(lane => {
    const { own, since, kept = null } = checkpoint.now.lanes[lane.index]!
    return own ? [] : [{ lane, since, kept }]
  })
}
