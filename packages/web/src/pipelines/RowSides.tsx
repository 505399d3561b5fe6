import type { RowPair } from '@tide/core/api/rows'
import { SideBySide } from '../parts/SideBySide.tsx'

/** One record on both sides, with a sentence that says how they stand. */
export function RowSides({ pair, fromName, toName }: { pair: RowPair; fromName: string; toName: string }) {
  if (!pair.atSource && !pair.atTarget)
    return <p className="text-ink-2">There is no such row on either side.</p>
  const differing = pair.fields.filter(({ same }) => !same).length
  const said = !pair.atSource
    ? `Only ${toName} has this row.`
    : !pair.atTarget
      ? `Only ${fromName} has this row.`
      : differing === 0
        ? 'Both sides are equal.'
        : `${differing} of ${pair.fields.length} fields differ.`
  return (
    <>
      <p className="mb-2 font-semibold" role="status">
        {said}
      </p>
      <SideBySide
        leftTitle={pair.atSource ? fromName : `${fromName}, no such row`}
        rightTitle={pair.atTarget ? toName : `${toName}, no such row`}
        pairs={pair.fields.map(({ name, source, there, same, inKey }) => ({
          name,
          left: source,
          right: there,
          same,
          keep: inKey,
        }))}
      />
    </>
  )
}
