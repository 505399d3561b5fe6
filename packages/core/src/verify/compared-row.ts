import type { Lane } from '../plan/lane.ts'
import { sameValue } from '../records/same.ts'
import type { Row, Value } from '../records/value.ts'
import { predicateAsOf } from '../scope/predicate.ts'
import { madeColumns, type Coming, type Shaping } from '../shape/written.ts'

/** What the source's row should be at the target; undefined: it is not in scope. Throws NoValue where no value can be made. */
export type ComparedRow = (row: Row, at: string) => Value[] | undefined

/** `lane`: of columns alone that do not ask how their row came. */
export function comparedRow(lane: Lane, shaping: Shaping): ComparedRow {
  const made = madeColumns(lane, shaping)
  const predicateAt = lane.scope && predicateAsOf(lane.scope, lane.reads)
  return (row, at) => {
    if (predicateAt && predicateAt(at).test(row) !== true) return undefined
    const coming: Coming = { op: 'copy', committedAt: null, position: null, landedAt: at }
    return made.map(({ make }) => make(row, coming) ?? null)
  }
}

/** Which columns of two rows differ, by their places. */
export function differences({ writes }: Pick<Lane, 'writes'>, a: Row, b: Row): number[] {
  return writes.flatMap(({ type }, i) => (sameValue(a[i] ?? null, b[i] ?? null, type) ? [] : [i]))
}
