import type { Checkpoint, CopyRange, CopyView, LaneProgress, TargetSide } from '@tide/connectors/contract'
import { Turns } from '@tide/core/pace/turns'
import type { WorkingLane } from './lanes.ts'

export interface CopyTold {
  lane: number
  rows: number
  bytes: number
  checkpoint: Checkpoint
}

interface LaneRange {
  lane: number
  /** Its place among the lane's ranges in this run. */
  place: number
  range: CopyRange
  /** Rows of it may be there from a run that was cut off. */
  again: boolean
}

/**
 * Copies the lanes that are not copied yet, each from where it was left, several ranges side by side. Each range
 * lands in one transaction with what is then known to be complete: a lane's progress is that of its ranges without a
 * gap, so ranges behind a gap are loaded again after a crash. Tells of every range that has landed.
 */
export async function copyLanes(
  view: CopyView,
  target: TargetSide,
  lanes: readonly WorkingLane[],
  from: Checkpoint,
  signal: AbortSignal,
  tell: (told: CopyTold) => void,
): Promise<Checkpoint> {
  const failed = new AbortController()
  const ended = AbortSignal.any([signal, failed.signal])
  const commits = new Turns()
  const progress = new LandedRanges(withBeginnings(from, view))
  const ranges = allRanges(view, lanes, from, ended)
  let fault: { thrown: unknown } | undefined
  const failWith = (thrown: unknown) => {
    fault ??= { thrown }
    failed.abort()
    throw thrown
  }
  const work = async () => {
    for (;;) {
      const next = await ranges.next()
      if (next.done || ended.aborted) return
      const { lane, place, range, again } = next.value
      await target.load(lanes[lane]!.target, range, again, (loaded, write) =>
        commits.run(async () => {
          failed.signal.throwIfAborted() // what has not landed must not be counted by those behind it
          const checkpoint = progress.with(lane, place, loaded.rows, range.upTo)
          await write(checkpoint).catch(failWith)
          progress.checkpoint = checkpoint
          tell({ lane, ...loaded, checkpoint })
        }),
      )
    }
  }
  await Promise.allSettled(Array.from({ length: view.readers }, () => work().catch(failWith)))
  await ranges.return(undefined)
  if (fault) throw fault.thrown
  return progress.checkpoint
}

async function* allRanges(
  view: CopyView,
  lanes: readonly WorkingLane[],
  from: Checkpoint,
  signal: AbortSignal,
): AsyncGenerator<LaneRange, undefined> {
  for (const [lane, { source }] of lanes.entries()) {
    const { copied, copiedUpTo, begun } = from.lanes[lane]!
    if (copied) continue
    let place = 0
    for await (const range of view.copy(source, copiedUpTo, signal)) {
      yield { lane, place: place++, range, again: begun }
    }
  }
}

/** A lane whose copy begins now holds what the view holds. One that goes on is as of more than one time. */
function withBeginnings(checkpoint: Checkpoint, { position }: CopyView): Checkpoint {
  const lanes = checkpoint.lanes.map(lane =>
    lane.copied || lane.begun ? lane : { ...lane, since: position },
  )
  return { ...checkpoint, lanes }
}

/** What the checkpoint says while ranges land in any order. */
class LandedRanges {
  checkpoint: Checkpoint
  private readonly waiting = new Map<string, { rows: number; upTo: string | null }>()
  private readonly gapless: number[]

  constructor(checkpoint: Checkpoint) {
    this.checkpoint = checkpoint
    this.gapless = checkpoint.lanes.map(() => 0)
  }

  /** The checkpoint with one more range; it counts when it has been written. */
  with(lane: number, place: number, rows: number, upTo: string | null): Checkpoint {
    this.waiting.set(`${lane} ${place}`, { rows, upTo })
    let progress: LaneProgress = { ...this.checkpoint.lanes[lane]!, begun: true }
    for (;;) {
      const next = this.waiting.get(`${lane} ${this.gapless[lane]}`)
      if (!next) break
      this.gapless[lane]!++
      progress = {
        ...progress,
        copiedRows: progress.copiedRows + next.rows,
        copiedUpTo: next.upTo,
        copied: next.upTo === null,
      }
    }
    const lanes = this.checkpoint.lanes.map((other, i) => (i === lane ? progress : other))
    return { ...this.checkpoint, lanes }
  }
}
