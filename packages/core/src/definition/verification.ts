/** Holding a pipeline's target against its sources, and sending again what differs. */
import type { Position } from '../position/position.ts'
import type { Key } from '../records/value.ts'

/**
 * `counts`: how many rows there are, where that says something; lanes with a scope, or whose target has rows that the source
 * has not, are compared row by row. `rows`: every value of every row.
 */
export type VerificationLevel = 'counts' | 'rows'

/** How kind it is to the systems, and to the pipeline beside it. */
export interface VerificationPace {
  /** Of each side; null: as fast as they come. */
  rowsPerSecond: number | null
  /** Nothing is read while the lag is above so many seconds; null: whatever it is. */
  pauseAboveSeconds: number | null
}

export interface LaneVerified {
  /**
   * `settling`: what was in question is looked at again, after the pipeline has landed what there was then.
   * `ended`: a person has ended it.
   */
  state: 'waiting' | 'reading' | 'settling' | 'done' | 'failed' | 'ended'
  level: VerificationLevel
  /** Rows that have been read. With counts: rows that there are; null: not known. */
  atSource: number | null
  atTarget: number | null
  /** Rows that are the same on both sides. */
  equal: number
  /** Rows whose values differ, or that are there more than once. */
  different: number
  onlySource: number
  onlyTarget: number
  /** Differ, and are held. */
  held: number
  /** Changed so often while it was looked at that nothing can be said of them. */
  inMotion: number
  /** Were in question when so many others differed already that no more were looked at. */
  unsettled: number
  /** How the differences lie in the order of the key: of so many rows each, as the source has them. */
  strip: { rows: number; differences: number[] }
  /** What it waits for, in words. */
  waits: string | null
  /** The lane stood there when it was done. */
  position: Position | null
  completeUpTo: string | null
  beganAt: string | null
  endedAt: string | null
  problem: { message: string; remedy: string } | null
}

export type DifferenceKind = 'different' | 'only source' | 'only target' | 'held'

/** A row of which the sides do not agree. */
export interface Difference {
  /** As the target has it, without parts that are the same for all rows of its lane. */
  key: Key
  kind: DifferenceKind
  /** Columns of the target that differ; none where a side has no such row. */
  columns: string[]
}

export interface KeptDifference extends Difference {
  id: number
  verification: string
  lane: number
  repairedAt: string | null
}

/** What is to be held against its sources. */
export interface AskedVerification {
  id: string
  pipeline: string
  level: VerificationLevel
  pace: VerificationPace
  askedAt: string
  /** `lane`: among those of the pipeline. `index`: among those of the run. */
  lanes: { run: string; index: number; lane: number }[]
}

/** A lane of a run that is to be verified. */
export interface AskedLane {
  verification: string
  /** Among those of the run. */
  index: number
  level: VerificationLevel
  pace: VerificationPace
}

/** What a person wants sent again: these differences, or all that are kept of a lane. */
export interface RepairDeed {
  verification: string
  /** Among the lanes of the run. */
  index: number
  ids: number[]
}

export const NOTHING_VERIFIED: LaneVerified = {
  state: 'waiting',
  level: 'rows',
  atSource: null,
  atTarget: null,
  equal: 0,
  different: 0,
  onlySource: 0,
  onlyTarget: 0,
  held: 0,
  inMotion: 0,
  unsettled: 0,
  strip: { rows: 1, differences: [] },
  waits: null,
  position: null,
  completeUpTo: null,
  beganAt: null,
  endedAt: null,
  problem: null,
}

export function differing({ different, onlySource, onlyTarget }: LaneVerified): number {
  return different + onlySource + onlyTarget
}

/**
 * Whether both sides agree; null: that is not known, since it is not over, rows are in motion, or not all that was in question was
 * looked at. Rows that are held are known to differ.
 */
export function agrees(lane: LaneVerified): boolean | null {
  if (differing(lane) > 0 || lane.held > 0) return false
  if (lane.state !== 'done') return null
  if (lane.level === 'counts') return lane.atSource === null ? null : lane.atSource === lane.atTarget
  return lane.inMotion > 0 || lane.unsettled > 0 ? null : true
}
