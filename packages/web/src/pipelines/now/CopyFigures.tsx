import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { count, duration } from '../../format.ts'
import { Figure } from '../../parts/Figure.tsx'
import { copySecondsLeft, copyShare } from '../../parts/StateWord.tsx'

export function CopyFigures({ pipeline }: { pipeline: ReplicationStatus }) {
  const { lanes, state } = pipeline
  const rows = lanes.reduce((sum, lane) => sum + lane.copiedRows, 0)
  const rate = lanes.reduce((sum, lane) => sum + lane.rowsPerSecond, 0)
  const left = copySecondsLeft(pipeline)
  return (
    <dl className="flex py-3">
      <Figure label="Copied" value={`${Math.floor(copyShare(pipeline) * 100)} %`} />
      {/* Who has not seen it copy knows no more than its log says. */}
      <Figure label="Rows" value={state === 'Finished' && rows === 0 ? '–' : count(rows)} />
      <Figure label="Rate" value={rate > 0 ? count(rate) : '–'} unit="rows/s" />
      <Figure label="Left" value={left === null ? '–' : duration(left)} />
      <Figure label="Tables" value={`${lanes.filter(lane => lane.copied).length} of ${lanes.length}`} />
    </dl>
  )
}
