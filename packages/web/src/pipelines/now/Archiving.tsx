import type { LaneStatus, ReplicationStatus } from '@tide/core/api/pipelines'
import { printName } from '@tide/core/records/dataset'
import { count } from '../../format.ts'
import { DataTable, type Column } from '../../parts/DataTable.tsx'
import { Figure } from '../../parts/Figure.tsx'
import { Name } from '../../parts/Name.tsx'
import { laneTitle } from '../laneTitle.ts'

const COLUMNS: Column<LaneStatus>[] = [
  { title: 'Lane', cell: lane => <Name>{printName(lane.source)}</Name>, by: lane => laneTitle(lane) },
  { title: 'Into', cell: lane => <Name>{printName(lane.target)}</Name>, by: lane => lane.target.name },
  { title: 'State', cell: lane => (lane.copied ? 'through' : lane.copiedRows > 0 ? 'under way' : 'waits') },
  { title: 'Archived', cell: lane => count(lane.copiedRows), by: lane => lane.copiedRows, align: 'right' },
  {
    title: 'Deleted at the source',
    cell: lane => count(lane.archive?.deleted ?? 0),
    by: lane => lane.archive?.deleted ?? 0,
    align: 'right',
  },
  {
    title: 'Stay there',
    cell: lane => count(lane.archive?.kept ?? 0),
    by: lane => lane.archive?.kept ?? 0,
    align: 'right',
  },
  {
    title: 'Rows/s',
    cell: lane => (lane.rowsPerSecond > 0 ? count(lane.rowsPerSecond) : ''),
    by: lane => lane.rowsPerSecond,
    align: 'right',
  },
]

/** How an archive goes on: how many rows are in scope is known only when it is through. */
export function Archiving({ pipeline }: { pipeline: ReplicationStatus }) {
  const { lanes, state } = pipeline
  if (!lanes.some(({ copiedRows, archive }) => archive || copiedRows > 0))
    return (
      <p className="py-3 text-ink-2">
        {state === 'Finished'
          ? 'Finished. What each run archived and deleted is told under Runs; the next start goes on with what has come into scope since.'
          : 'The first slice is read.'}
      </p>
    )
  const sum = (of: (lane: LaneStatus) => number) => count(lanes.reduce((all, lane) => all + of(lane), 0))
  return (
    <>
      <dl className="flex py-3">
        <Figure label="Archived" value={sum(({ copiedRows }) => copiedRows)} unit="rows" />
        <Figure label="Deleted at the source" value={sum(({ archive }) => archive?.deleted ?? 0)} />
        <Figure
          label="Stay there"
          value={sum(({ archive }) => archive?.kept ?? 0)}
          title="They have changed since they were read, or others refer to them."
        />
        <Figure label="Tables" value={`${lanes.filter(lane => lane.copied).length} of ${lanes.length}`} />
      </dl>
      <div className="mt-3">
        <DataTable label="Lanes" columns={COLUMNS} rows={lanes} rowKey={lane => laneTitle(lane)} />
      </div>
    </>
  )
}
