/** What is agreed once fields were written back on one side. */
import { sameIn, type Value } from '@tide/core/merge/form'
import type { Side } from '@tide/core/merge/rule'
import type { CompiledLane } from '@tide/core/two-way/lane'
import type { Pair } from '@tide/core/two-way/pair'

/**
 * As both halves are now is agreed of these fields, so that what was written back does not come again from the other side; but for those that say
 * something else: somebody was faster, or the app has refused it. `values`: by field, as written.
 */
export function agreedAsWritten(
  { merge, names }: CompiledLane,
  pair: Pair,
  side: Side,
  values: Readonly<Record<string, Value>>,
): Pair {
  const base = { ...pair.base }
  for (const [i, join] of merge.joins.entries()) {
    const field = join[side]
    if (!Object.hasOwn(values, field)) continue
    const [a, b] = [pair.halves.a?.record[join.a] ?? null, pair.halves.b?.record[join.b] ?? null]
    if (sameIn(join.forms[side], side === 'a' ? a : b, values[field]!)) base[names[i]!] = [a, b]
  }
  return { ...pair, base }
}
