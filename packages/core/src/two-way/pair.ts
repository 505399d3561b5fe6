/** Two records that are known to be the same, as they were seen and agreed last. */
import type { Value } from '../merge/form.ts'
import type { Decided } from '../merge/merge.ts'
import type { Side } from '../merge/rule.ts'

/** A record of one side, of the fields that the lane looks at. */
export interface Half {
  id: string
  record: Record<string, Value>
  /** By which its app tells it from what it was before. */
  version: string | null
  /** Milliseconds; null: the app does not say. */
  changedAt: number | null
}

export interface Pair {
  id: string
  lane: string
  /** Where it started. */
  origin: Side
  /** null: there is none yet, or it is gone. */
  halves: Record<Side, Half | null>
  /** By field pair: what was agreed, in the form of each side. */
  base: Record<string, [Value, Value]>
  /**
   * `asleep`: it is no longer in scope. `apart`: one half is gone and the other was left. `stranger`: a record that takes no part, and may be found
   * to be the same as one that comes.
   */
  state: 'in step' | 'asleep' | 'apart' | 'stranger'
  held: HeldField[]
  /** A person has said that it is none of those that it may be. */
  alone: boolean
  /** Something of it is to be looked at again, though nobody changes it. */
  waits: boolean
}

/** What waits for a person. */
export interface HeldField {
  /** The field pair; null: the whole record. */
  join: string | null
  why: 'conflict' | 'no value' | 'refused' | 'may be the same' | 'edited and gone'
  /** Where it cannot be written; null: it is of both. */
  side: Side | null
  reason: string
  remedy: string
  /** What the app has refused; the same is not sent again of our own accord. */
  tried?: Value
  /** Of records that may be the same: the others' keys. */
  others?: string[]
}

/** What somebody has decided of a pair. */
export type PairDecision =
  | { join: string; decided: Decided }
  /** Of one that may be another: it is that one, or it is none of them. */
  | { same: string | null }
  /** Of one that was edited and is gone. */
  | { wins: 'the deletion' | 'the edit' }

/** Of a lane no two join the same fields. */
export function joinName({ a, b }: { a: string; b: string }): string {
  return `${a} ↔ ${b}`
}
