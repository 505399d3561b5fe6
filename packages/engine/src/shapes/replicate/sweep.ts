/** Rows that time alone moves into a scope or out of it: read at the source, and shaped as they stand now. */
import { shapedEffect } from '@tide/core/apply/effect'
import type { FoldedKey } from '@tide/core/apply/fold'
import type { Stream } from '@tide/core/checkpoint/checkpoint'
import type { SourceTransaction } from '@tide/core/records/change'
import { packRow } from '@tide/core/records/tuple'
import { keyOf, type Row } from '@tide/core/records/value'
import { predicateOf } from '@tide/core/scope/predicate'
import { moved } from '@tide/core/scope/relative'
import { refuseMisfits } from './land.ts'
import type { WorkingLane } from './lanes.ts'
import { writeCheckpoint, type OpenPipeline } from './open.ts'

const BATCH_ROWS = 1_000
const SWEEP_MS = 3_600_000

/** The lanes for which it is time. */
export function sweepsDue({ checkpoint, clock }: OpenPipeline, lanes: readonly WorkingLane[]): WorkingLane[] {
  return lanes.filter(({ index, movesEvery }) => {
    if (movesEvery === undefined) return false
    const { swept } = checkpoint.now.lanes[index]!
    return swept === undefined || Date.parse(clock()) - Date.parse(swept) >= movesEvery * 1000
  })
}

/** Lands what has moved since the lane was looked through last, with the checkpoint that says up to when that is. */
export async function sweep(open: OpenPipeline, lane: WorkingLane, signal: AbortSignal): Promise<void> {
  const { checkpoint, target, clock } = open
  const { scope, reads } = lane.plan
  const at = clock()
  const { swept } = checkpoint.now.lanes[lane.index]!
  const where = swept === undefined ? undefined : moved(scope!, reads, swept, at)
  if (!where) {
    const note = (now: Stream) => withSwept(now, lane.index, at, false)
    // From here on it is known where to begin.
    return swept === undefined ? writeCheckpoint(open, note) : checkpoint.note(note)
  }
  const predicate = predicateOf(where, reads)
  if ('message' in predicate) throw new Error(`what moves cannot be asked for: ${predicate.message}`)
  const transaction: SourceTransaction = { id: '', start: checkpoint.now.position.at, at, events: [] }
  const writing = await target.begin()
  try {
    let rows = 0
    const limits = { batchRows: BATCH_ROWS, timeoutMs: SWEEP_MS, signal }
    for await (const batch of open.scan({ dataset: lane.source.dataset, columns: reads, where }, limits)) {
      const keys = batch
        .filter(row => predicate.test(row) === true)
        .map(row => stateOf(lane, row, transaction))
      if (keys.length === 0) continue
      rows += keys.length
      const { effect, misfits } = shapedEffect({ truncate: false, fresh: false, keys }, lane.shaper, at)
      refuseMisfits(lane, misfits)
      await writing.apply([{ lane: lane.target, effect }])
    }
    await checkpoint.commit(
      now => withSwept(now, lane.index, at, rows > 0),
      next => writing.commit(next),
    )
  } catch (error) {
    await writing.rollback()
    throw error
  }
}

function stateOf({ identityIndexes }: WorkingLane, row: Row, transaction: SourceTransaction): FoldedKey {
  const after = packRow(row)
  return {
    identity: keyOf(row, identityIndexes),
    after,
    from: undefined,
    before: undefined,
    images: [after],
    untold: false,
    transaction,
    number: 0,
    op: 'update',
  }
}

/** `brought`: rows are there as of now, ahead of what else has landed. */
function withSwept(stream: Stream, index: number, at: string, brought: boolean): Stream {
  const lanes = stream.lanes.map((lane, i) => (i === index ? { ...lane, swept: at } : lane))
  return { ...stream, lanes, consistent: stream.consistent && !brought }
}
