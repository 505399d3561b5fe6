import type { LaneVerified } from '@tide/core/definition/verification'
import { plural } from '../../format.ts'

/** Where the differences lie, in the order of the key: a mark for each stretch of rows that has some. */
export function Strip({
  strip: { rows, differences },
  label,
}: {
  strip: LaneVerified['strip']
  label: string
}) {
  const most = Math.max(1, ...differences)
  const stretches = Math.max(48, differences.length)
  const marked = differences.filter(one => one > 0).length
  return (
    <svg
      viewBox={`0 0 ${stretches} 12`}
      preserveAspectRatio="none"
      className="block h-3 w-28"
      role="img"
      aria-label={`${label}: differences in ${plural(marked, 'stretch', 'stretches')} of ${plural(rows, 'row')}`}
    >
      <line x1={0} x2={stretches} y1={11.5} y2={11.5} stroke="var(--color-line-2)" strokeWidth={1} />
      {differences.map((found, i) =>
        found === 0 ? null : (
          <rect
            key={i}
            x={i}
            y={9 - (found / most) * 9}
            width={1}
            height={3 + (found / most) * 9}
            fill="var(--color-buoy-mark)"
          />
        ),
      )}
    </svg>
  )
}
