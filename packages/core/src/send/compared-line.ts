/** Rows on their way to be held against what was sent, as CSV. */
import { csvLine } from '../records/csv.ts'
import type { FieldPair } from '../definition/send.ts'
import type { Mapped } from './mapped.ts'

/** Every field, so that rows which say the same are the same text: a value, nothing (`null`), or emptied (`[]`). */
export type Encoded = Record<string, string | null | []>

/** What a row says: of equal texts nothing is news. */
export function toldOf(mapped: Pick<Mapped, 'values'>, pairs: readonly FieldPair[]): string {
  return JSON.stringify(encoded(mapped, pairs).always)
}

/** `first`: of what is made alone. */
function encoded(
  { values }: Pick<Mapped, 'values'>,
  pairs: readonly FieldPair[],
): { always: Encoded; first: Encoded } {
  const always: Encoded = {}
  const first: Encoded = {}
  for (const { field, once } of pairs) {
    const value = Object.hasOwn(values, field) ? values[field]! : undefined
    const into = once ? first : always
    into[field] = value === undefined ? null : (value ?? [])
  }
  return { always, first }
}

/** Number, key, values, values of what is made alone, field, reason, remedy, then what each match key is to find. */
export function comparedLine(n: number, mapped: Mapped, pairs: readonly FieldPair[]): string {
  const { key, matches, problem } = mapped
  const { always, first } = encoded(mapped, pairs)
  const { field = null, reason = null, remedy = null } = problem ?? {}
  return csvLine([
    String(n),
    key === null ? null : JSON.stringify(key),
    JSON.stringify(always),
    JSON.stringify(first),
    field,
    reason,
    remedy,
    ...matches,
  ])
}

/** Those fields that are to be written: by field, a value or null for emptied. */
export function written(encoded: Encoded): Record<string, string | null> {
  return Object.fromEntries(
    Object.entries(encoded).flatMap(([field, value]) =>
      value === null ? [] : [[field, Array.isArray(value) ? null : value]],
    ),
  )
}

/** What of the new values is not in the app by us already. */
export function changedOf(
  was: Record<string, string | null>,
  now: Record<string, string | null>,
): Record<string, string | null> {
  return Object.fromEntries(
    Object.entries(now).filter(([field, value]) => !Object.hasOwn(was, field) || was[field] !== value),
  )
}
