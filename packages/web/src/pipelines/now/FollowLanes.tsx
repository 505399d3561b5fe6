import type { LaneStatus, PipelineStatus } from '@tide/core/api/pipelines'
import { printName } from '@tide/core/records/dataset'
import { useLive } from '../../api/live.ts'
import { ago, count, duration, moment, plural } from '../../format.ts'
import { DataTable, type Column } from '../../parts/DataTable.tsx'
import { Name } from '../../parts/Name.tsx'
import { RecopyLane } from './RecopyLane.tsx'
import { laneTitle } from '../laneTitle.ts'

export function FollowLanes({ pipeline }: { pipeline: PipelineStatus }) {
  const { lanes } = pipeline
  const now = useLive(live => live.now)
  const changes = (lane: LaneStatus) => lane.inserted + lane.updated + lane.deleted
  const most = Math.max(1, ...lanes.map(changes))
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
      title: 'Rows there',
      cell: lane => (lane.rowsThere === null ? '–' : count(lane.rowsThere)),
      by: lane => lane.rowsThere ?? -1,
      align: 'right',
    },
    { title: 'Inserted', cell: lane => count(lane.inserted), by: lane => lane.inserted, align: 'right' },
    { title: 'Updated', cell: lane => count(lane.updated), by: lane => lane.updated, align: 'right' },
    { title: 'Deleted', cell: lane => count(lane.deleted), by: lane => lane.deleted, align: 'right' },
    {
      title: 'Share of changes',
      cell: lane =>
        lane.detached ? (
          <DetachedLane lane={lane} />
        ) : (
          <span className="block h-2 bg-ink-3" style={{ width: `${(changes(lane) / most) * 100}px` }} />
        ),
    },
    {
      title: 'Last change',
      cell: lane =>
        lane.lastChange ? (
          <span title={moment(lane.lastChange)}>{ago(lane.lastChange, now)}</span>
        ) : (
          <span className="text-ink-3">none yet</span>
        ),
      by: lane => lane.lastChange ?? '',
      align: 'right',
    },
  ]
  if (lanes.some(({ differs }) => differs > 0))
    columns.splice(3, 0, {
      title: 'Held',
      cell: lane => <span className={lane.differs > 0 ? 'text-buoy' : ''}>{count(lane.differs)}</span>,
      by: lane => lane.differs,
      align: 'right',
    })
  if (pipeline.state === 'Following')
    columns.push({
      title: 'Recopy',
      untitled: true,
      cell: lane => <RecopyLane pipeline={pipeline} lane={lane} />,
      align: 'right',
    })
  return <DataTable label="Lanes" columns={columns} rows={lanes} rowKey={lane => laneTitle(lane)} />
}

/** It is copied again, or has been and catches up. */
function DetachedLane({ lane }: { lane: LaneStatus }) {
  if (lane.copied) return 'catching up'
  const { copiedRows, secondsLeft } = lane
  return (
    <>
      copying, {plural(copiedRows, 'row')}
      {secondsLeft !== null && secondsLeft > 1 && `, ${duration(secondsLeft)} left`}
    </>
  )
}
