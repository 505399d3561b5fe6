/** Rows that time alone moves into a scope or out of it: read at the source, and shaped as they stand now. */
import type { Stream } from '@tide/core/checkpoint/checkpoint'
import type { SourceTransaction } from '@tide/core/records/change'
import { printName } from '@tide/core/records/dataset'
import { keyOf } from '@tide/core/records/value'
import { predicateOf } from '@tide/core/scope/predicate'
import { moved } from '@tide/core/scope/relative'
import { landStates } from './land-states.ts'
import { standingState } from './shapes.ts'
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
  const { checkpoint, clock } = open
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
  const limits = { batchRows: BATCH_ROWS, timeoutMs: SWEEP_MS, signal }
  let brought = false
  const table = { dataset: lane.source.dataset, columns: reads, where }
  for await (const batch of unlessTurned(open.scan(table, limits), signal)) {
    const states = batch
      .filter(row => predicate.test(row) === true)
      .map(row => standingState(keyOf(row, lane.identityIndexes), row, transaction))
    if (states.length === 0) continue
    brought = true
    // Where this is cut off, all that has moved is looked for again.
    await landStates(lane, states, open, (_, write, counted) =>
      checkpoint.commit(now => counted({ ...now, consistent: false }), write),
    )
  }
  // Not all has been read, perhaps; what moved is looked for again.
  if (signal.aborted) return
  open.detail(() => ({
    message: `Looked for rows of ${printName(lane.plan.source)} that time has moved: ${brought ? 'some were' : 'none were'}.`,
    lanes: [printName(lane.plan.source)],
  }))
  const note = (now: Stream) => withSwept(now, lane.index, at, brought)
  await (brought ? writeCheckpoint(open, note) : checkpoint.note(note))
}

/** A reading that fails because it is not wanted any more is no failure. */
async function* unlessTurned<T>(reading: AsyncIterable<T>, signal: AbortSignal): AsyncGenerator<T> {
  try {
    yield* reading
  } catch (thrown) {
    if (!signal.aborted) throw thrown
  }
}

/** `brought`: rows are there as of now, ahead of what else has landed. */
function withSwept(stream: Stream, index: number, at: string, brought: boolean): Stream {
  const lanes = stream.lanes.map((lane, i) => (i === index ? { ...lane, swept: at } : lane))
  return { ...stream, lanes, consistent: stream.consistent && !brought }
}
