import type { Checkpoint, CopyBatch, SourceSide, TargetSide } from '@tide/connectors/contract'
import type { WorkingLane } from './lanes.ts'

export interface CopyTold {
  lane: number
  rows: number
  bytes: number
  checkpoint: Checkpoint
}

/**
 * Copies the lanes that are not copied yet, one after another, each from where it was left. While the target takes
 * one range in, the source reads the next; no more than two are in memory. Tells of every range that has landed.
 */
export async function copyLanes(
  source: SourceSide,
  target: TargetSide,
  lanes: readonly WorkingLane[],
  from: Checkpoint,
  signal: AbortSignal,
  tell: (told: CopyTold) => void,
): Promise<Checkpoint> {
  let checkpoint = from
  for (const [index, lane] of lanes.entries()) {
    if (checkpoint.lanes[index]!.copied) continue
    const ranges = source
      .copy(lane.source, checkpoint.lanes[index]!.copiedUpTo, signal)
      [Symbol.asyncIterator]()
    let reading = ranges.next()
    try {
      for (;;) {
        const range = await reading
        if (range.done || signal.aborted) break
        const batch = range.value
        reading = ranges.next()
        reading.catch(() => {}) // awaited in the next round
        const next = withRange(checkpoint, index, batch)
        await target.load(lane.target, batch, next)
        checkpoint = next
        tell({ lane: index, rows: batch.rows, bytes: batch.bytes, checkpoint })
      }
    } finally {
      await reading.catch(() => {})
      await ranges.return?.()
    }
    if (signal.aborted) break
  }
  return checkpoint
}

function withRange(checkpoint: Checkpoint, index: number, batch: CopyBatch): Checkpoint {
  const lanes = checkpoint.lanes.map((lane, i) =>
    i === index
      ? {
          ...lane,
          copiedRows: lane.copiedRows + batch.rows,
          copiedUpTo: batch.upTo,
          copied: batch.upTo === null,
        }
      : lane,
  )
  return { ...checkpoint, lanes }
}
