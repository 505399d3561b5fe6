import type { LaneStatus } from '@tide/core/api/pipelines'
import { printName } from '@tide/core/records/dataset'
import { count, duration } from '../../format.ts'
import { DataTable, type Column } from '../../parts/DataTable.tsx'
import { Name } from '../../parts/Name.tsx'
import { laneTitle } from '../laneTitle.ts'

export function CopyLanes({ lanes }: { lanes: LaneStatus[] }) {
  const share = (lane: LaneStatus) =>
    lane.copied ? 1 : Math.min(1, lane.copiedRows / Math.max(1, lane.plannedRows))
  const columns: Column<LaneStatus>[] = [
    {
      title: 'Lane',
      cell: lane => <Name>{printName(lane.source)}</Name>,
      by: lane => laneTitle(lane),
    },
    lanes.some(({ origin }) => origin !== undefined)
      ? { title: 'Origin', cell: lane => lane.origin, by: lane => lane.origin ?? '' }
      : { title: 'Into', cell: lane => <Name>{lane.target.name}</Name>, by: lane => lane.target.name },
    {
      title: 'Progress',
      cell: lane => (
        <span className="flex items-center gap-2">
          <span
            className="block h-2 w-36 bg-paper-2"
            role="progressbar"
            aria-label={`${laneTitle(lane)} copied`}
            aria-valuenow={Math.round(share(lane) * 100)}
          >
            <span className="block h-full bg-ink-2" style={{ width: `${share(lane) * 100}%` }} />
          </span>
          {lane.copied
            ? 'copied'
            : lane.copiedRows > 0 || lane.rowsPerSecond > 0
              ? `${Math.floor(share(lane) * 100)} %`
              : 'waits'}
        </span>
      ),
      by: share,
    },
    {
      title: 'Rows',
      cell: lane => `${count(lane.copiedRows)} of ${count(Math.max(lane.plannedRows, lane.copiedRows))}`,
      by: lane => lane.copiedRows,
      align: 'right',
    },
    {
      title: 'Rows/s',
      cell: lane => (lane.rowsPerSecond > 0 ? count(lane.rowsPerSecond) : ''),
      by: lane => lane.rowsPerSecond,
      align: 'right',
    },
    {
      title: 'Left',
      cell: lane => (lane.copied || lane.secondsLeft === null ? '' : duration(lane.secondsLeft)),
      align: 'right',
    },
  ]
  return <DataTable label="Lanes" columns={columns} rows={lanes} rowKey={lane => laneTitle(lane)} />
}
