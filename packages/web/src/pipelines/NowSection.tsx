import type { LaneStatus, PipelineStatus } from '@tide/core/api/pipelines'
import { printName } from '@tide/core/records/dataset'
import { lazy, Suspense } from 'react'
import { useOutletContext } from 'react-router'
import { api } from '../api/client.ts'
import { putPipeline, useLive } from '../api/live.ts'
import { ago, clock, count, duration, moment, plural } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { Copyable } from '../parts/Copyable.tsx'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { Figure } from '../parts/Figure.tsx'
import { copySecondsLeft, copyShare } from '../parts/StateWord.tsx'
import { Name } from '../parts/Name.tsx'

const Tide = lazy(() => import('./Tide.tsx'))

/** What is going on right now. */
export function NowSection() {
  const pipeline = useOutletContext<PipelineStatus>()
  const { state, lanes } = pipeline
  if (state === 'Draft' || lanes.length === 0) {
    return <p className="py-6 text-ink-2">Nothing has run yet. The setup says what a start would do.</p>
  }
  const copying = state === 'Copying'
  return (
    <>
      {copying ? <CopyFigures pipeline={pipeline} /> : <FollowFigures pipeline={pipeline} />}
      {pipeline.delay && <Delay delay={pipeline.delay} />}
      {!copying && (
        <Suspense fallback={<div className="h-[270px]" />}>
          <Tide pipeline={pipeline} />
        </Suspense>
      )}
      <div className="mt-3">
        {copying ? <CopyLanes lanes={lanes} /> : <FollowLanes pipeline={pipeline} />}
      </div>
    </>
  )
}

function CopyFigures({ pipeline }: { pipeline: PipelineStatus }) {
  const { lanes } = pipeline
  const rows = lanes.reduce((sum, lane) => sum + lane.copiedRows, 0)
  const rate = lanes.reduce((sum, lane) => sum + lane.rowsPerSecond, 0)
  const left = copySecondsLeft(pipeline)
  return (
    <dl className="flex py-3">
      <Figure label="Copied" value={`${Math.floor(copyShare(pipeline) * 100)} %`} />
      <Figure label="Rows" value={count(rows)} />
      <Figure label="Rate" value={rate > 0 ? count(rate) : '–'} unit="rows/s" />
      <Figure label="Left" value={left === null ? '–' : duration(left)} />
      <Figure label="Tables" value={`${lanes.filter(lane => lane.copied).length} of ${lanes.length}`} />
    </dl>
  )
}

function FollowFigures({ pipeline }: { pipeline: PipelineStatus }) {
  const {
    lagSeconds,
    backlog,
    committedPerMinute,
    landedPerMinute,
    completeUpTo,
    position,
    consistent,
    state,
  } = pipeline
  const detached = pipeline.lanes.filter(lane => lane.detached).length
  return (
    <dl className="flex flex-wrap gap-y-2 py-3">
      <Figure
        label={
          detached > 0
            ? `Complete up to, but for ${plural(detached, 'lane')}`
            : consistent || !completeUpTo
              ? 'Complete up to'
              : 'Catching up with the copy'
        }
        value={completeUpTo ? clock(completeUpTo) : '–'}
        title={completeUpTo ? `${moment(completeUpTo)}, by the source’s clock` : undefined}
      />
      <Figure label="Lag" value={lagSeconds === null ? 'unknown' : duration(lagSeconds)} />
      <Figure
        label="Backlog"
        value={backlog === null ? 'unknown' : count(backlog)}
        unit={backlog === null ? undefined : 'changes'}
      />
      <Figure
        label="Committed"
        value={state === 'Stopped' ? '–' : count(committedPerMinute)}
        unit="per min"
      />
      <Figure label="Landed" value={state === 'Stopped' ? '–' : count(landedPerMinute)} unit="per min" />
      <Figure
        label="Applied up to"
        value={position ? <Copyable text={position} className="text-[13px]" /> : '–'}
      />
    </dl>
  )
}

/** Where the lag comes from. */
function Delay({ delay: { journal, target } }: { delay: { journal: number; target: number } }) {
  const slower = journal > target ? 'reading the source’s log' : 'landing at the target'
  return (
    <p className="-mt-1 pb-2 text-[13px] text-ink-2">
      Of the lag, {duration(journal)} from the source into the journal, {duration(target)} from there to the
      target
      {journal + target > 1 ? (
        <>
          ; <b className="text-ink">{slower}</b> is what takes long
        </>
      ) : null}
      .
    </p>
  )
}

function CopyLanes({ lanes }: { lanes: LaneStatus[] }) {
  const share = (lane: LaneStatus) =>
    lane.copied ? 1 : Math.min(1, lane.copiedRows / Math.max(1, lane.plannedRows))
  const columns: Column<LaneStatus>[] = [
    {
      title: 'Lane',
      cell: lane => <Name>{printName(lane.source)}</Name>,
      by: lane => printName(lane.source),
    },
    { title: 'Into', cell: lane => <Name>{lane.target.name}</Name>, by: lane => lane.target.name },
    {
      title: 'Progress',
      cell: lane => (
        <span className="flex items-center gap-2">
          <span
            className="block h-2 w-36 bg-paper-2"
            role="progressbar"
            aria-label={`${printName(lane.source)} copied`}
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
  return <DataTable label="Lanes" columns={columns} rows={lanes} rowKey={lane => printName(lane.source)} />
}

function FollowLanes({ pipeline }: { pipeline: PipelineStatus }) {
  const now = useLive(live => live.now)
  const changes = (lane: LaneStatus) => lane.inserted + lane.updated + lane.deleted
  const most = Math.max(1, ...pipeline.lanes.map(changes))
  const columns: Column<LaneStatus>[] = [
    {
      title: 'Lane',
      cell: lane => <Name>{printName(lane.source)}</Name>,
      by: lane => printName(lane.source),
    },
    { title: 'Into', cell: lane => <Name>{lane.target.name}</Name>, by: lane => lane.target.name },
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
          <LaneApart lane={lane} />
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
  if (pipeline.state === 'Following')
    columns.push({
      title: 'Recopy',
      untitled: true,
      cell: lane => <RecopyLane pipeline={pipeline} lane={lane} />,
      align: 'right',
    })
  return (
    <DataTable
      label="Lanes"
      columns={columns}
      rows={pipeline.lanes}
      rowKey={lane => printName(lane.source)}
    />
  )
}

/** It is copied again, or has been and catches up. */
function LaneApart({ lane }: { lane: LaneStatus }) {
  if (lane.copied) return 'catching up'
  const { copiedRows, secondsLeft } = lane
  return (
    <>
      copying, {plural(copiedRows, 'row')}
      {secondsLeft !== null && secondsLeft > 1 && `, ${duration(secondsLeft)} left`}
    </>
  )
}

function RecopyLane({ pipeline, lane }: { pipeline: PipelineStatus; lane: LaneStatus }) {
  const index = pipeline.lanes.indexOf(lane)
  return (
    <Confirm
      trigger={
        <TextButton className="text-[12px]" aria-label={`Recopy ${printName(lane.source)}`}>
          Recopy
        </TextButton>
      }
      title={`Recopy ${printName(lane.source)}?`}
      verb="Empty and copy it"
      danger
      act={async () =>
        putPipeline(await api<PipelineStatus>('POST', `/pipelines/${pipeline.id}/recopy`, { lanes: [index] }))
      }
    >
      <p>
        {plural(lane.rowsThere ?? 0, 'row')} in {lane.target.name} of {pipeline.toName} are deleted and copied
        again. {pipeline.lanes.length > 1 && 'The other lanes go on meanwhile.'}
      </p>
    </Confirm>
  )
}
