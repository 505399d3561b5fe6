/** A pipeline's checkpoint, and what copying and following make of it. */
import type { Checkpoint, LaneProgress } from '@tide/connectors/contract'
import { Failure } from '@tide/core/failure'
import type { OperationCounts } from '@tide/core/apply/net-effect'
import { Turns } from '@tide/core/pace/turns'
import { comparePositions } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import type { Landing } from './follow.ts'

type Change = (now: Checkpoint) => Checkpoint

/**
 * The checkpoint of a running pipeline. Several write it side by side: each says what it has changed, and what is
 * committed holds what all of them had committed before.
 */
export class SharedCheckpoint {
  /** What is known; the target may have an earlier one. */
  now: Checkpoint
  /** Set when it is not known whether a write has gone through: then what is known here may be behind the target. */
  private unsure: unknown
  /** What the target has. */
  written: Checkpoint
  private readonly turns = new Turns()

  constructor(written: Checkpoint) {
    this.now = this.written = written
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
        await write(next)
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

/** The checkpoint of a pipeline that has copied nothing. */
export function firstCheckpoint(
  pipeline: string,
  epoch: number,
  position: Position,
  lanes: readonly unknown[],
  now: number,
): Checkpoint {
  return {
    pipeline,
    epoch,
    position,
    completeUpTo: new Date(now).toISOString(),
    lanes: lanes.map(() => NOTHING_YET),
    consistent: false,
  }
}

/**
 * The copy of these lanes set back to its beginning; what they have counted stays. `beside`: they go their own way from
 * here, while the others go on; when there are no others, they stay together.
 */
export function uncopied(checkpoint: Checkpoint, places: readonly number[], beside: boolean): Checkpoint {
  const apart = beside && places.length < checkpoint.lanes.length
  const lanes = checkpoint.lanes.map((lane, i) => {
    if (!places.includes(i)) return lane
    const anew = { ...lane, begun: false, copied: false, copiedRows: 0, copiedUpTo: null, since: null }
    delete anew.own
    return apart ? { ...anew, own: checkpoint.position } : anew
  })
  return { ...checkpoint, lanes, consistent: false }
}

/** With further lanes that stand at `position` and have copied nothing. */
export function withLanes(checkpoint: Checkpoint, count: number, position: Position): Checkpoint {
  const more = Array.from({ length: count }, () => ({ ...NOTHING_YET, own: position }))
  return { ...checkpoint, lanes: [...checkpoint.lanes, ...more], consistent: false }
}

/** With changes that have landed in the lanes that stand where the checkpoint says. */
export function withLanding(checkpoint: Checkpoint, landing: Landing): Checkpoint {
  const { to, head, newest, fetched } = landing
  const reached = head.oldestPending === null && head.completeUpTo !== null
  return {
    ...checkpoint,
    lanes: counted(checkpoint.lanes, landing),
    position: to,
    completeUpTo: reached ? head.completeUpTo! : (newest ?? checkpoint.completeUpTo),
    // Fetched rows are as of now, so that the target is ahead of its position until the source's head is reached again.
    consistent: !fetched && lanesApart(checkpoint).length === 0 && (checkpoint.consistent || reached),
  }
}

/** The same for lanes that go their own way. */
export function withOwnLanding(checkpoint: Checkpoint, landing: Landing): Checkpoint {
  const lanes = counted(checkpoint.lanes, landing).map(lane =>
    lane.own ? { ...lane, own: later(lane.own, landing.to) } : lane,
  )
  return { ...checkpoint, lanes }
}

/** Lanes that have come at least as far as the others go with them from now on, but for what they have landed already. */
export function joined(checkpoint: Checkpoint): Checkpoint {
  const lanes = checkpoint.lanes.map(lane => {
    const { own, ...rest } = lane
    return own ? { ...rest, since: later(lane.since, own) } : lane
  })
  return { ...checkpoint, lanes }
}

/** The lanes that go their own way. */
export function lanesApart({ lanes }: Checkpoint): number[] {
  return lanes.flatMap((lane, i) => (lane.own ? [i] : []))
}

/** Where the lanes that go their own way go on: the earliest place that one of them stands at. */
export function ownPosition({ lanes }: Checkpoint): Position | undefined {
  return lanes.reduce<Position | undefined>(
    (first, { own }) => (own && (!first || comparePositions(own, first) === 'before') ? own : first),
    undefined,
  )
}

/** What follows this is still needed by some lane. */
export function neededFrom(checkpoint: Checkpoint): Position {
  const own = ownPosition(checkpoint)
  return own && comparePositions(own, checkpoint.position) === 'before' ? own : checkpoint.position
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
      lastChange: newest,
    }
  })
}
