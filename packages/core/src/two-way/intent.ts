/** A call that is about to be made for pairs of a lane; what is kept of it makes sure that nothing is made twice. */
import type { Side } from '../merge/rule.ts'
import type { Outcome } from '../merge/merge.ts'
import type { PairWrite } from './decide.ts'
import type { HeldField } from './pair.ts'

export interface TwoWayIntent {
  /** By which the app knows the call. */
  once: string
  run: string
  lane: string
  side: Side
  op: 'create' | 'change' | 'remove'
  operations: IntendedWrite[]
}

export interface IntendedWrite {
  pair: string
  /** null: it is to be made. */
  id: string | null
  version: string | null
  write: PairWrite
  /** What else is agreed of the pair once it is written. */
  outcomes: Outcome[]
  held: HeldField[]
  waits: boolean
}
