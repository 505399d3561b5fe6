/** What is said of a row in question, when both sides were read again. */
import type { DifferenceKind } from '../definition/verification.ts'
import type { Lane } from '../plan/lane.ts'
import type { Row, Value } from '../records/value.ts'
import { differences } from './compared-row.ts'

/**
 * The source's row as it should be at the target. `none`: there is none, or not in scope. `no value`: none can be made of it.
 * `moving`: time alone moves it into the scope or out of it just now.
 */
export type Expected = Row | 'none' | 'no value' | 'moving'

export type Verdict =
  /** The sides agree; `equal`: by a row that both have. */
  | { agree: true; equal: boolean }
  | { agree: false; kind: Exclude<DifferenceKind, 'held'>; columns: number[] }
  /** It changes while it is looked at. */
  | 'again'

/**
 * `before` and `after`: what was read at the source before the pipeline had landed everything up to then, and after `there` was read
 * at the target. What did not change meanwhile must stand there as it is.
 */
export function verdict(
  lane: Pick<Lane, 'writes'>,
  before: Expected,
  there: readonly Row[],
  after: Expected,
): Verdict {
  const [only] = there
  for (const expected of [after, before]) {
    if (expected === 'none' && there.length === 0) return { agree: true, equal: false }
    if (typeof expected === 'string' || there.length !== 1) continue
    if (differences(lane, expected, only!).length === 0) return { agree: true, equal: true }
  }
  if (before === 'moving' || after === 'moving' || !unchanged(before, after)) return 'again'
  if (after === 'none') return { agree: false, kind: 'only target', columns: [] }
  if (there.length === 0) return { agree: false, kind: 'only source', columns: [] }
  const columns = after === 'no value' || there.length > 1 ? [] : differences(lane, after, only!)
  return { agree: false, kind: 'different', columns }
}

function unchanged(a: Expected, b: Expected): boolean {
  if (typeof a === 'string' || typeof b === 'string') return a === b
  return a.every((value: Value, i) => value === b[i])
}
