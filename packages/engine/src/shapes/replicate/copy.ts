import type { CopyRange, CopyView } from '@tide/connectors/contract/source'
import type { Loaded } from '@tide/connectors/contract/target'
import type { FoldedKey } from '@tide/core/apply/fold'
import type { Checkpoint, LaneProgress, Stream } from '@tide/core/checkpoint/checkpoint'
import { wholeLines } from '@tide/core/records/csv-lines'
import { csvRows } from '@tide/core/records/csv-rows'
import { keyOf } from '@tide/core/records/value'
import { asOf } from '@tide/core/scope/relative'
import type { ShapeCopied } from '@tide/core/shape/copied'
import type { SharedCheckpoint } from './checkpoint.ts'
import { isRefusal } from './culprits.ts'
import { landStates } from './land-states.ts'
import type { LandingParts } from './landing-parts.ts'
import { standingState } from './shapes.ts'
import type { WorkingLane } from './lanes.ts'

/** A range that has landed. */
export interface RangeTold {
  /** The lane's index. */
  lane: number
  rows: number
  bytes: number
  /** When its reading began; ISO 8601. */
  beganAt: string
}

/** What a copy works with, beside where it reads. */
export interface CopyParts extends LandingParts {
  checkpoint: SharedCheckpoint
  /** Lanes of which some row did not fit: their rows are looked at one by one, which is slower. */
  careful: Set<number>
}

interface LaneRange {
  lane: WorkingLane
  /** Its number among the lane's ranges in this run. */
  number: number
  range: CopyRange
  /** Rows of it may be there from a run that was cut off. */
  again: boolean
}

/**
 * Copies these lanes, each from where it was left, several ranges side by side. Each range lands in one transaction
 * with what is then known to be complete: a lane's progress is that of its ranges without a gap, so ranges behind a gap
 * are loaded again after a crash. Tells of every range that has landed. When a row of a lane does not fit, the copy fails, and
 * that lane is among the careful ones: of those, such rows are held.
 */
export async function copyLanes(
  view: CopyView,
  readers: number,
  { target, checkpoint, clock, ...parts }: CopyParts,
  lanes: readonly WorkingLane[],
  signal: AbortSignal,
  tell: (told: RangeTold) => void,
): Promise<void> {
  const failed = new AbortController()
  const ended = AbortSignal.any([signal, failed.signal])
  const before = checkpoint.now
  const began = clock()
  await checkpoint.note(now => withBeginnings(now, lanes, view, began))
  const landed = new LandedRanges()
  const ranges = allRanges(view, lanes, before, clock, ended)
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
      const { lane, number, range, again } = next.value
      const { index } = lane
      const beganAt = clock()
      const done = async (loaded: Loaded, write: Write, counted: Counted = now => now) => {
        await checkpoint
          .commit(
            now => counted(landed.with(now, index, number, loaded.rows, range.upTo)),
            async next => {
              failed.signal.throwIfAborted() // what has not landed must not be counted by those behind it
              await write(next)
            },
          )
          .catch(failWith)
        tell({ lane: index, beganAt, ...loaded })
      }
      if (parts.careful.has(index)) {
        await landRange(lane, range, view, { ...parts, target, checkpoint, clock }, done, ended)
        continue
      }
      try {
        await target.load(lane.target, shapedRange(lane, range, view, clock()), again, done)
      } catch (thrown) {
        if (isRefusal(thrown) && parts.holding.most > 0) parts.careful.add(index)
        throw thrown
      }
    }
  }
  await Promise.allSettled(Array.from({ length: readers }, () => work().catch(failWith)))
  await ranges.return(undefined)
  if (fault) throw fault.thrown
}

type Write = (checkpoint: Checkpoint) => Promise<void>
type Counted = (stream: Stream) => Stream

/** So many rows land together where each is looked at. */
const ROWS_AT_ONCE = 5_000

/**
 * A range row by row, so that those that do not fit can be held. Only with the last of them it is done; where it is ended before, it is
 * begun anew.
 */
async function landRange(
  lane: WorkingLane,
  { csv }: CopyRange,
  { position }: CopyView,
  { checkpoint, ...parts }: Omit<CopyParts, 'careful'>,
  done: (loaded: Loaded, write: Write, counted: Counted) => Promise<void>,
  signal: AbortSignal,
): Promise<void> {
  const transaction = { id: '', start: position?.at ?? '', at: parts.clock(), events: [] }
  let waiting: FoldedKey[] = []
  let [rows, bytes] = [0, 0]
  const begun = (now: Stream): Stream => {
    const lanes = now.lanes.map((other, i) => (i === lane.index ? { ...other, begun: true } : other))
    return { ...now, lanes }
  }
  for await (const lines of wholeLines(csv)) {
    bytes += lines.length
    for (const row of csvRows(lines))
      waiting.push(standingState(keyOf(row, lane.identityIndexes), row, transaction, 'copy'))
    if (waiting.length < ROWS_AT_ONCE) continue
    await landStates(lane, waiting, parts, async (landed, write, counted) => {
      rows += landed
      await checkpoint.commit(now => counted(begun(now)), write)
    })
    waiting = []
    // Looking for rows that do not fit takes its time, and nobody should wait for all of them.
    if (signal.aborted) return
  }
  await landStates(lane, waiting, parts, (landed, write, counted) =>
    done({ rows: rows + landed, bytes }, write, counted),
  )
}

function shapedRange(
  { copied }: WorkingLane,
  range: CopyRange,
  { position }: CopyView,
  landedAt: string,
): CopyRange {
  return copied ? { ...range, csv: shapedCsv(range.csv, copied, position?.at ?? null, landedAt) } : range
}

async function* shapedCsv(
  csv: CopyRange['csv'],
  shape: ShapeCopied,
  position: string | null,
  landedAt: string,
): AsyncGenerator<Uint8Array> {
  for await (const lines of wholeLines(csv)) {
    const shaped = shape(lines, { position, landedAt })
    if (shaped.length > 0) yield shaped
  }
}

async function* allRanges(
  view: CopyView,
  lanes: readonly WorkingLane[],
  from: Stream,
  clock: () => string,
  signal: AbortSignal,
): AsyncGenerator<LaneRange, undefined> {
  for (const lane of lanes) {
    const { copied, copiedUpTo, begun } = from.lanes[lane.index]!
    if (copied) continue
    let number = 0
    const { scope, reads } = lane.plan
    const where = scope ? { where: asOf(scope, reads, clock()) } : {}
    for await (const range of view.copy({ ...lane.source, ...where }, copiedUpTo, signal)) {
      yield { lane, number: number++, range, again: begun || mayMeet(lane, view) }
    }
  }
}

/** A range may bring keys that are in the table: rows were there before, or it is read later than others, and keys move. */
function mayMeet({ plan, shaper }: WorkingLane, { position }: CopyView): boolean {
  return plan.there === 'add' || (position === null && shaper.keyBeyond.length > 0)
}

/**
 * A lane whose copy begins now holds what the view holds, where that can be said; what it left out before, it leaves out
 * still. One that goes on is as of more than one time, and so is one whose table had rows before: those that were deleted at
 * the source since the start go with the changes alone.
 */
function withBeginnings(
  stream: Stream,
  copying: readonly WorkingLane[],
  { position }: CopyView,
  began: string,
): Stream {
  const lanes = stream.lanes.map((lane, i) => {
    const working = copying.find(({ index }) => index === i)
    if (!working || lane.copied || lane.begun) return lane
    // Rows are in scope as of when they are copied, and looked for again from the beginning on.
    const swept = working.movesEvery === undefined ? {} : { swept: began }
    const since = working.plan.there === 'add' ? lane.since : (position ?? lane.since)
    return { ...lane, ...swept, since }
  })
  return { ...stream, lanes }
}

/** What the checkpoint says of the copy while ranges land in any order. */
class LandedRanges {
  private readonly waiting = new Map<string, { rows: number; upTo: string | null }>()
  /** By lane, how many ranges have landed without a gap. */
  private readonly gapless = new Map<number, number>()

  /** The checkpoint with one more range. Called once for each, and what is returned is committed, or nothing more is. */
  with(stream: Stream, index: number, number: number, rows: number, upTo: string | null): Stream {
    this.waiting.set(`${index} ${number}`, { rows, upTo })
    let progress: LaneProgress = { ...stream.lanes[index]!, begun: true }
    for (;;) {
      const gapless = this.gapless.get(index) ?? 0
      const next = this.waiting.get(`${index} ${gapless}`)
      if (!next) break
      this.waiting.delete(`${index} ${gapless}`)
      this.gapless.set(index, gapless + 1)
      progress = {
        ...progress,
        copiedRows: progress.copiedRows + next.rows,
        copiedUpTo: next.upTo,
        copied: next.upTo === null,
      }
    }
    const lanes = stream.lanes.map((other, i) => (i === index ? progress : other))
    return { ...stream, lanes }
  }
}
