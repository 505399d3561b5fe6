/** What the types of DuckDB do not hold of the types that they stand for. */
import { depthOf, parseList } from '../records/list.ts'
import type { LogicalType } from '../records/types.ts'
import type { Holds } from './rehearsal.ts'

/** Undefined where a type holds all. */
export function duckdbHolds(type: LogicalType, nativeType: string): Holds | undefined {
  const declared = /((?:\[\])+)$/.exec(nativeType)?.[1]
  if (type.kind !== 'list' || declared === undefined) return undefined
  const depth = declared.length / 2
  return text => {
    const found = depthOf(parseList(text, type.delimiter))
    return found === 0 || found === depth
      ? undefined
      : `the list ${text.slice(0, 60)} has ${found} dimensions, the column was declared with ${depth}`
  }
}
