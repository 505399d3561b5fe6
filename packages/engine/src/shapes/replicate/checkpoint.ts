/** One stream of a pipeline's checkpoint, and what copying and following make of it. */
import {
  singleStream,
  type Checkpoint,
  type LaneProgress,
  type Stream,
} from '@tide/core/checkpoint/checkpoint'
import { Failure } from '@tide/core/failure'
import type { OperationCounts } from '@tide/core/apply/net-effect'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { Lane } from '@tide/core/plan/lane'
import type { PendingChange, ReplicationRecord } from '@tide/core/definition/pipeline'
import { Turns } from '@tide/core/pace/turns'
import { comparePositions } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import type { Landing } from './land.ts'

type Change = (now: Stream) => Stream

/**
 * The checkpoint of a running pipeline. Several write it side by side: each says what it has changed, and what is
 * committed holds what all of them had committed before.
 */
export class SharedCheckpoint {
  /** What is known; the target may have an earlier one. */
  now: Stream
  /** Set when it is not known whether a write has gone through: then what is known here may be behind the target. */
  private unsure: unknown
  /** What the target has. */
  written: Stream
  private readonly owner: Pick<Checkpoint, 'pipeline' | 'epoch'>
  private readonly turns = new Turns()

  constructor(written: Checkpoint) {
    const { pipeline, epoch } = written
    this.owner = { pipeline, epoch }
    this.now = this.written = singleStream(written)
  }

  /**
   * `write` commits the checkpoint, with what came to it. When it fails, its outcome is taken for unknown, and nothing more
   * can be written: the checkpoint must be read back from the target first.
   */
  commit(change: Change, write: (checkpoint: Checkpoint) => Promise<void>): Promise<void> {
    return this.turns.run(async () => {
      if (this.unsure !== undefined) throw mustBeReadBack(this.unsure)
      const next = change(this.now)
      try {
        await write({ ...this.owner, streams: [next] })
      } catch (thrown) {
        this.unsure = thrown
        throw thrown
      }
      this.now = this.written = next
    })
  }

  /** What need not be written yet. */
  note(change: Change): Promise<void> {
    return this.turns.run(async () => void (this.now = change(this.now)))
  }
}

function mustBeReadBack(cause: unknown): Failure {
  return new Failure(
    'transient',
    'It is not known whether the last commit at the target went through.',
    'The checkpoint is read back from the target; then it goes on by itself.',
    cause,
  )
}

const NOTHING_YET: LaneProgress = {
  begun: false,
  copied: false,
  copiedRows: 0,
  copiedUpTo: null,
  since: null,
  inserted: 0,
  updated: 0,
  deleted: 0,
  lastChange: null,
}

const FROM_NOW_ON: LaneProgress = { ...NOTHING_YET, copied: true, partial: true }

function beginning({ there }: Lane, does: ReplicateDefinition['does']): LaneProgress {
  return does === 'follow' || there === 'are the copy' ? FROM_NOW_ON : NOTHING_YET
}

/** The checkpoint of a pipeline that has copied nothing. */
export function firstCheckpoint(
  pipeline: string,
  epoch: number,
  position: Position,
  { lanes, plan, does }: Pick<ReplicationRecord, 'lanes' | 'plan'> & Pick<ReplicateDefinition, 'does'>,
  now: number,
): Checkpoint {
  const completeUpTo = new Date(now).toISOString()
  const progress = lanes.map(lane => beginning(lane, does))
  return {
    pipeline,
    epoch,
    streams: [{ origin: '', position, completeUpTo, consistent: false, plan, lanes: progress }],
  }
}

/** The number of no plan. */
const UNEMPTIED = -1

/** A checkpoint before whose lanes rows of an earlier start may still be in the tables; whoever finds it empties them. */
export function unemptied(checkpoint: Checkpoint): Checkpoint {
  return { ...checkpoint, streams: [{ ...singleStream(checkpoint), plan: UNEMPTIED }] }
}

export function isUnemptied(checkpoint: Checkpoint): boolean {
  return singleStream(checkpoint).plan === UNEMPTIED
}

/**
 * The copy of these lanes set back to its beginning; what they have counted stays. They are detached from here, while the
 * others go on; when there are no others, they stay together.
 */
export function uncopied(stream: Stream, indexes: readonly number[]): Stream {
  const detached = indexes.length < stream.lanes.length
  const lanes = stream.lanes.map((lane, i) => {
    if (!indexes.includes(i)) return lane
    // Of one that was added on the way, what came before its own beginning was never captured.
    const began = sinceOf(lane)
    const since = began && comparePositions(began, stream.position) === 'after' ? began : null
    const grownBefore = lane.inserted - lane.deleted
    const anew = { ...lane, begun: false, copied: false, copiedRows: 0, copiedUpTo: null, since, grownBefore }
    delete anew.own
    delete anew.paused
    delete anew.partial
    delete anew.leftOut
    delete anew.differs
    return detached ? { ...anew, own: since ?? stream.position } : anew
  })
  return { ...stream, lanes, consistent: false }
}

/** These lanes are copied over what is there, and are detached meanwhile, where there are others; what changes from here on lands behind it. */
function copiedOver(stream: Stream, indexes: readonly number[]): Stream {
  const isDetached = indexes.length < stream.lanes.length
  const lanes = stream.lanes.map((lane, i) => {
    if (!indexes.includes(i)) return lane
    const grownBefore = lane.inserted - lane.deleted
    const anew = { ...lane, begun: true, copied: false, copiedRows: 0, copiedUpTo: null, grownBefore }
    delete anew.differs
    return isDetached ? { ...anew, own: lane.own ?? stream.position } : anew
  })
  return { ...stream, lanes, consistent: false }
}

/**
 * By the plan of another number. Lanes that are new stand at `position` and have copied nothing; of those that are copied again,
 * the copy is set back to its beginning.
 */
export function changed(
  stream: Stream,
  {
    lanes: planned,
    plan,
    does,
  }: Pick<ReplicationRecord, 'lanes' | 'plan'> & Pick<ReplicateDefinition, 'does'>,
  lanes: PendingChange['lanes'],
  position: Position | undefined,
): Stream {
  const next = {
    ...stream,
    plan,
    lanes: lanes.map(({ was }, i) =>
      was === null ? { ...beginning(planned[i]!, does), own: position! } : stream.lanes[was]!,
    ),
    consistent: stream.consistent && lanes.every(({ was }) => was !== null),
  }
  const over = placesOf(lanes, one => one.over === true)
  const filled = over.length > 0 ? copiedOver(next, over) : next
  const again = placesOf(lanes, one => one.again)
  return again.length > 0 ? uncopied(filled, again) : filled
}

/** The places of those that are so. */
export function placesOf<T>(all: readonly T[], are: (one: T) => boolean): number[] {
  return all.flatMap((one, place) => (are(one) ? [place] : []))
}

/**
 * At an earlier position, from which everything is applied again; until the source's head is reached again the target has
 * newer rows than that. `next`: when the first transaction behind it was committed. `covered`: by lane, from where on its
 * changes can be had.
 */
export function rewound(
  stream: Stream,
  to: Position,
  next: string | null,
  covered: readonly (Position | undefined)[],
): Stream {
  const lanes = stream.lanes.map((lane, i) => {
    const begins = covered[i]
    const reaches = !begins || comparePositions(begins, to) !== 'after'
    const { leftOut, ...rest } = reaches ? lane : { ...lane, since: later(lane.since, begins) }
    const heals = leftOut && comparePositions(to, leftOut.from) !== 'after'
    const next = { ...rest, kept: later(lane.kept ?? null, stream.position) }
    return leftOut && !heals ? { ...next, leftOut } : next
  })
  const completeUpTo = next !== null && next < stream.completeUpTo ? next : stream.completeUpTo
  return { ...stream, lanes, position: to, completeUpTo, consistent: false }
}

/** At a later position; `changes`: by lane, how many are left out. */
export function skipped(stream: Stream, to: Position, changes: readonly number[]): Stream {
  const lanes = stream.lanes.map((lane, i) => {
    const more = changes[i] ?? 0
    if (more === 0) return lane
    const { changes: before, from } = lane.leftOut ?? { changes: 0, from: stream.position }
    return { ...lane, leftOut: { changes: before + more, from } }
  })
  return { ...stream, lanes, position: to, consistent: stream.consistent && changes.every(n => n === 0) }
}

/** With changes that have landed in the lanes that stand where the checkpoint says. */
export function withLanding(stream: Stream, landing: Landing): Stream {
  const { to, head, newest, fetched } = landing
  const reached = head.oldestPending === null && head.completeUpTo !== null
  return {
    ...stream,
    lanes: counted(stream.lanes, landing),
    position: to,
    completeUpTo: reached ? head.completeUpTo! : (newest ?? stream.completeUpTo),
    // Fetched rows are as of now, so that the target is ahead of its position until the source's head is reached again.
    consistent:
      !fetched &&
      !stream.lanes.some(({ own, partial, leftOut, differs }) => own || partial || leftOut || differs) &&
      (stream.consistent || reached),
  }
}

/** The same for lanes that are detached. */
export function withOwnLanding(stream: Stream, landing: Landing): Stream {
  const lanes = counted(stream.lanes, landing).map(lane =>
    lane.own && !lane.paused ? { ...lane, own: later(lane.own, landing.to) } : lane,
  )
  return { ...stream, lanes }
}

/** These lanes stand still from here on, while the others go on. */
export function standing(
  stream: Stream,
  indexes: readonly number[],
  paused: NonNullable<LaneProgress['paused']>,
): Stream {
  const lanes = stream.lanes.map((lane, i) =>
    indexes.includes(i) && !lane.paused ? { ...lane, own: lane.own ?? stream.position, paused } : lane,
  )
  return { ...stream, lanes, consistent: false }
}

/** They go on from where they stand, and join the others. */
export function goingOn(stream: Stream, indexes: readonly number[]): Stream {
  const lanes = stream.lanes.map((lane, i) => {
    const { paused, ...rest } = lane
    return paused && indexes.includes(i) ? rest : lane
  })
  return { ...stream, lanes }
}

/** Lanes that have come at least as far as the others go with them from now on, but for what they have landed already. */
export function joined(stream: Stream): Stream {
  const lanes = stream.lanes.map(lane => {
    const { own, ...rest } = lane
    return own && !lane.paused ? { ...rest, since: later(lane.since, own) } : lane
  })
  return { ...stream, lanes }
}

/** The lanes that stand elsewhere than the others, and go on to join them. */
export function detachedLanes({ lanes }: Stream): number[] {
  return placesOf(lanes, ({ own, paused }) => own !== undefined && paused === undefined)
}

/** Where the detached lanes go on: the earliest place that one of them stands at. */
export function ownPosition({ lanes }: Stream): Position | undefined {
  return earliest(lanes.filter(({ paused }) => paused === undefined))
}

function earliest(lanes: readonly LaneProgress[]): Position | undefined {
  return lanes.reduce<Position | undefined>(
    (first, { own }) => (own && (!first || comparePositions(own, first) === 'before') ? own : first),
    undefined,
  )
}

/** What follows this is still needed by some lane. */
export function neededFrom(stream: Stream): Position {
  const own = earliest(stream.lanes)
  return own && comparePositions(own, stream.position) === 'before' ? own : stream.position
}

/** From where on a lane's changes are not in its table yet; null: from wherever it is read. */
export function sinceOf({ since, own }: LaneProgress): Position | null {
  return own ? later(since, own) : since
}

/** Changes that have landed, over all lanes. */
export function landedChanges(lanes: readonly LaneProgress[]): number {
  return lanes.reduce((sum, lane) => sum + lane.inserted + lane.updated + lane.deleted, 0)
}

function later(a: Position | null, b: Position): Position {
  return a && comparePositions(a, b) === 'after' ? a : b
}

function counted(
  lanes: readonly LaneProgress[],
  { counts, newest }: { counts: ReadonlyMap<number, OperationCounts>; newest: string | null },
): LaneProgress[] {
  return lanes.map((lane, i) => {
    const more = counts.get(i)
    if (!more) return lane
    return {
      ...lane,
      inserted: lane.inserted + more.inserted,
      updated: lane.updated + more.updated,
      deleted: lane.deleted + more.deleted,
      truncated: (lane.truncated ?? 0) + more.truncated,
      bytes: (lane.bytes ?? 0) + more.bytes,
      lastChange: newest,
    }
  })
}
