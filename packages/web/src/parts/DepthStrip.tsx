import { depth, tint } from '@tide/core/pace/lag'
import { duration } from '../format.ts'

const TINTS = [
  'transparent',
  'var(--color-water-1)',
  'var(--color-water-2)',
  'var(--color-water-3)',
  'var(--color-water-4)',
]
const DEPTH = 14

/** A waterline with the lag hanging below it, logarithmic from 1 s to 1 h; a calm pipeline is a plain line. */
export function DepthStrip({ lags, label }: { lags: readonly (number | null)[]; label: string }) {
  const worst = Math.max(0, ...lags.map(lag => lag ?? 0))
  const known = lags.some(lag => lag !== null)
  return (
    <svg
      viewBox={`0 0 ${lags.length} ${DEPTH}`}
      preserveAspectRatio="none"
      className="block h-3.5 w-full"
      role="img"
      aria-label={`${label}: ${known ? `at most ${duration(worst)} behind` : 'nothing known'}`}
    >
      {lags.map((lag, i) =>
        lag === null || lag <= 1 ? null : (
          <rect
            key={i}
            x={i}
            y={1}
            width={0.8}
            height={2 + depth(lag) * (DEPTH - 3)}
            fill={TINTS[tint(lag)]}
          />
        ),
      )}
      <line
        x1={0}
        x2={lags.length}
        y1={0.5}
        y2={0.5}
        stroke={known ? 'var(--color-ink)' : 'var(--color-line-2)'}
        vectorEffect="non-scaling-stroke"
      />
    </svg>
  )
}
