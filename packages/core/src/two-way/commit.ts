/** What is put down of pairs, all of it together or nothing. */
import type { TwoWayTrail } from '../api/two-way.ts'
import type { Side } from '../merge/rule.ts'
import type { TwoWayIntent } from './intent.ts'
import type { Pair } from './pair.ts'

/** How far a lane has come. */
export interface LaneProgress {
  /** Of what it was when all its records were read last. */
  digest: string
  /** Up to where changes were taken in. */
  cursors: Record<Side, string | null>
  /** ISO 8601; null: it was never looked whether records are gone. */
  sweptAt: string | null
}

export interface PairTotals {
  pairs: number
  asleep: number
  held: number
  waiting: number
}

export interface PairCommit {
  /** Another one by now: another engine has the pipeline. */
  epoch: number
  /** ISO 8601. */
  at: string
  /** `label`: what people call the pair. */
  put?: readonly (Pair & { label: string | null })[]
  /** Ids of pairs that are over. */
  over?: readonly string[]
  /** Calls that are about to be made, and those of which it is known what has become. */
  begin?: readonly TwoWayIntent[]
  settled?: readonly string[]
  trail?: readonly Omit<TwoWayTrail, 'id'>[]
  lane?: { name: string } & LaneProgress
}
