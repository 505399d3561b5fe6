/** Records that are gone because the record is gone that they were of: such as remarks, which an app takes away with what was remarked on. */
import type { Side } from '@tide/core/merge/rule'
import type { CompiledLane } from '@tide/core/two-way/lane'
import type { Pair } from '@tide/core/two-way/pair'
import type { Writing } from './writing.ts'

/**
 * Of pairs that have lost that half: those whose record was of one that is gone, by their ids. What becomes of that one's other half is said for its
 * own lane; where it is left, what was said of it is left, too.
 */
export async function goneWith(
  { apps, signal }: Writing,
  lane: CompiledLane,
  side: Side,
  lost: readonly Pair[],
): Promise<Set<string>> {
  const went = new Set<string>()
  const objects = await apps[side].objects()
  for (const [i, through] of lane.throughs.entries()) {
    const { name, refers, required } = lane.objects[side].fields.find(
      one => one.name === lane.merge.joins[i]![side],
    )!
    const canRead = objects.find(one => one.name === refers)?.can.read
    if (!through || !required || refers === null || !canRead) continue
    // Its other half goes as well, and nothing may be left that is of it.
    if ('pairs' in through && through.gone?.[side] === 'delete') continue
    const ids = new Set(lost.flatMap(({ halves }) => halves[side]?.record[name] ?? []))
    for (const id of ids) {
      if ((await apps[side].read(refers, id, signal)) !== undefined) continue
      for (const { id: pair, halves } of lost) if (halves[side]?.record[name] === id) went.add(pair)
    }
  }
  return went
}
