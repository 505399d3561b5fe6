/** How changes get into a target's table, in the one order that all targets keep. */
import type { NetEffect, Put } from '@tide/core/apply/net-effect'
import type { Key } from '@tide/core/records/value'
import { unsentColumns } from './staging.ts'

/** What a target does for one lane. */
export interface MergeSteps {
  /** The lane's own rows go. */
  empty(): Promise<void>
  /** All rows of the lane that have nothing in this column get the value. */
  markAll(column: string, value: string): Promise<void>
  /** Straight into the table; false, and nothing done, when one of the keys is there in spite of all. */
  insertFresh?(puts: readonly Put[]): Promise<boolean>
  /** Straight into a table without a key. */
  append(puts: readonly Put[]): Promise<void>
  /** Stages rows beside the table; `partial`: some of their values were not sent. */
  stage(puts: readonly Put[], partial: boolean): Promise<void>
  /**
   * Takes what was not sent, in these columns, from the rows as they are there; drops staged rows that have none, and
   * returns them.
   */
  fill(puts: readonly Put[], unsent: readonly number[]): Promise<Put[]>
  remove(keys: readonly Key[]): Promise<void>
  /** Puts staged rows in, in the place of those with the same key; `emptied`: there are none. */
  put(emptied: boolean): Promise<void>
}

/** Truncate, then rows that go, then rows as they stand in the end. Returns the puts that it could not fill. */
export async function merge(
  { truncate, markAll, removed, puts, fresh, append }: NetEffect,
  steps: MergeSteps,
): Promise<Put[]> {
  if (truncate) await steps.empty()
  if (markAll) await steps.markAll(markAll.column, markAll.value)
  if (append) {
    await steps.append(puts)
    return []
  }
  if (fresh && puts.length > 0 && (await steps.insertFresh?.(puts))) return []
  let unfilled: Put[] = []
  if (puts.length > 0) {
    const unsent = unsentColumns(puts)
    await steps.stage(puts, unsent.length > 0)
    if (unsent.length > 0) unfilled = await steps.fill(puts, unsent)
  }
  if (removed.length > 0 && !truncate) await steps.remove(removed)
  if (puts.length > 0) await steps.put(truncate)
  return unfilled
}
