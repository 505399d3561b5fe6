import type { LaneStatus, ReplicationStatus } from '@tide/core/api/pipelines'
import type { LaneMoved } from '@tide/core/pace/lane-reading'
import { useState } from 'react'
import { printName } from '@tide/core/records/dataset'
import { useLive } from '../../api/live.ts'
import { ago, bytes, count, duration, moment, plural } from '../../format.ts'
import { DataTable, type Column } from '../../parts/DataTable.tsx'
import { Choice } from '../../parts/Choice.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { SPANS } from '../tide/spans.ts'
import { useLaneSpans } from './useLaneSpans.ts'
import { Name } from '../../parts/Name.tsx'
import { PauseLane } from './PauseLane.tsx'
import { RecopyLane } from './RecopyLane.tsx'
import { StandingLanes } from './StandingLanes.tsx'
import { laneTitle } from '../laneTitle.ts'

/** `seconds`: the span that is shown above. */
export function FollowLanes({ pipeline, seconds }: { pipeline: ReplicationStatus; seconds: number }) {
  const { lanes } = pipeline
  const now = useLive(live => live.now)
  const [ofSpan, setOfSpan] = useState(true)
  const spans = useLaneSpans(pipeline.id, ofSpan ? seconds : null)
  const moved = (lane: LaneStatus): LaneMoved => (ofSpan ? (spans.of(lane) ?? NOTHING) : lane)
  const changes = (lane: LaneStatus) => {
    const { inserted, updated, deleted } = moved(lane)
    return inserted + updated + deleted
  }
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
    ...COUNTED.filter(name => name !== 'truncated' || lanes.some(lane => moved(lane).truncated > 0)).map(
      (name): Column<LaneStatus> => ({
        title: `${name[0]!.toUpperCase()}${name.slice(1)}`,
        cell: lane => count(moved(lane)[name]),
        by: lane => moved(lane)[name],
        align: 'right',
      }),
    ),
    { title: 'Size', cell: lane => bytes(moved(lane).bytes), by: lane => moved(lane).bytes, align: 'right' },
    {
      title: 'Share',
      cell: lane =>
        lane.paused ? (
          'standing still'
        ) : lane.detached ? (
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
      title: 'Deeds',
      untitled: true,
      cell: lane => (
        <span className="flex justify-end gap-3">
          <PauseLane pipeline={pipeline} lane={lane} />
          <RecopyLane pipeline={pipeline} lane={lane} />
        </span>
      ),
      align: 'right',
    })
  const since = ofSpan ? earliest(lanes.map(lane => spans.of(lane)?.since)) : pipeline.startedAt
  const total = lanes.reduce((sum, lane) => sum + changes(lane), 0)
  const size = lanes.reduce((sum, lane) => sum + moved(lane).bytes, 0)
  return (
    <>
      <StandingLanes pipeline={pipeline} />
      <div className="flex items-baseline gap-4 text-[13px]">
        <h2 className="text-[14px]">Lanes</h2>
        <p className="flex-1 text-ink-2">
          {plural(total, 'change')}, {bytes(size)}
          {since && ` since ${moment(since)}`}
        </p>
        <Choice
          label="Figures of"
          options={[SPANS.find(span => span.seconds === seconds)!.said, 'since the start']}
          chosen={ofSpan ? 0 : 1}
          choose={i => setOfSpan(i === 0)}
        />
      </div>
      <ErrorNotice error={spans.error} />
      <DataTable label="Lanes" columns={columns} rows={lanes} rowKey={lane => laneTitle(lane)} />
    </>
  )
}

const COUNTED = ['inserted', 'updated', 'deleted', 'truncated'] as const
const NOTHING: LaneMoved = { inserted: 0, updated: 0, deleted: 0, truncated: 0, bytes: 0 }

function earliest(times: readonly (string | undefined)[]): string | undefined {
  return times.filter(time => time !== undefined).sort()[0]
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
