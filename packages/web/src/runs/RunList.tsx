import type { RunAnswer } from '@tide/core/api/runs'
import { runSeconds, type RunLane } from '@tide/core/definition/run'
import { useState, type ReactNode } from 'react'
import { useLive } from '../api/live.ts'
import { bytes, count, duration, moment } from '../format.ts'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { Name } from '../parts/Name.tsx'
import { RunsChart } from './RunsChart.tsx'
import { gbPerHour, gbSaid, KINDS, rateSaid, rowsPerMinute, stateSaid } from './said.ts'

interface RunListProps {
  runs: RunAnswer[]
  named: boolean
  /** What can be done about a run. */
  deeds?: (run: RunAnswer) => ReactNode
}

/** Runs with what they moved and cost; of the chosen one, its tables. */
export function RunList({ runs, named, deeds }: RunListProps) {
  const now = useLive(live => live.now)
  const [asked, choose] = useState<string>()
  const chosen = runs.find(({ id }) => id === asked) ?? runs.find(({ lanes }) => lanes.length > 0)
  const columns: Column<RunAnswer>[] = [
    {
      title: 'Run',
      cell: run => (
        <button
          type="button"
          aria-pressed={run.id === chosen?.id}
          onClick={() => choose(run.id)}
          className={`underline decoration-line-2 underline-offset-2 ${run.id === chosen?.id ? 'font-semibold' : ''}`}
        >
          {KINDS[run.kind]}
        </button>
      ),
      by: run => KINDS[run.kind],
    },
    ...(named
      ? [
          {
            title: 'Pipeline',
            cell: (run: RunAnswer) => run.pipelineName,
            by: (run: RunAnswer) => run.pipelineName,
          },
        ]
      : []),
    ...(runs.some(({ origin }) => origin !== '')
      ? [{ title: 'Origin', cell: (run: RunAnswer) => run.origin, by: (run: RunAnswer) => run.origin }]
      : []),
    {
      title: 'State',
      cell: run => (
        <span className={run.state === 'failed' || run.state === 'cut off' ? 'text-buoy' : ''}>
          {stateSaid(run)}
        </span>
      ),
      by: run => run.state,
    },
    { title: 'Began', cell: run => moment(run.startedAt), by: run => run.startedAt },
    {
      title: 'Took',
      cell: run => duration(runSeconds(run, now)),
      by: run => runSeconds(run, now),
      align: 'right',
    },
    { title: 'Rows', cell: run => count(run.rows), by: run => run.rows, align: 'right' },
    {
      title: 'Rows a minute',
      cell: run => rateSaid(rowsPerMinute(run, now)),
      by: run => rowsPerMinute(run, now) ?? -1,
      align: 'right',
    },
    {
      title: 'GB an hour',
      cell: run => gbSaid(gbPerHour(run, now)),
      by: run => gbPerHour(run, now) ?? -1,
      align: 'right',
    },
    { title: 'Read', cell: run => count(run.reads), by: run => run.reads, align: 'right' },
    { title: 'Commits', cell: run => count(run.writes), by: run => run.writes, align: 'right' },
    { title: 'Tried again', cell: run => count(run.retries), by: run => run.retries, align: 'right' },
    { title: 'Held', cell: run => count(run.held), by: run => run.held, align: 'right' },
    ...(deeds ? [{ title: 'Deeds', untitled: true, cell: deeds, align: 'right' as const }] : []),
  ]
  return (
    <>
      <RunsChart runs={runs} now={now} chosen={chosen?.id} choose={choose} />
      {chosen && <Chosen run={chosen} now={now} />}
      <h2 className="mt-5 mb-1 text-[14px]">Runs</h2>
      <DataTable label="Runs" columns={columns} rows={runs} rowKey={({ id }) => id} />
    </>
  )
}

function Chosen({ run, now }: { run: RunAnswer; now: number }) {
  // What is followed is told over the whole run: a table whose changes are few is not slow.
  const spanOf = (lane: RunLane) => (run.kind === 'follow' ? { ...lane, ...spanOfRun(run) } : lane)
  const columns: Column<RunLane>[] = [
    { title: 'Table', cell: ({ table }) => <Name>{table}</Name>, by: ({ table }) => table },
    { title: 'Mode', cell: ({ mode }) => mode, by: ({ mode }) => mode },
    { title: 'Rows', cell: ({ rows }) => count(rows), by: ({ rows }) => rows, align: 'right' },
    ...(run.kind === 'follow'
      ? (['inserted', 'updated', 'deleted', 'truncated'] as const).map((name): Column<RunLane> => ({
          title: `${name[0]!.toUpperCase()}${name.slice(1)}`,
          cell: lane => count(lane[name]),
          by: lane => lane[name],
          align: 'right',
        }))
      : []),
    { title: 'Size', cell: lane => bytes(lane.bytes), by: lane => lane.bytes, align: 'right' },
    {
      title: 'Took',
      cell: lane => duration(runSeconds(spanOf(lane), now)),
      by: lane => runSeconds(spanOf(lane), now),
      align: 'right',
    },
    {
      title: 'Rows a minute',
      cell: lane => rateSaid(rowsPerMinute(spanOf(lane), now)),
      by: lane => rowsPerMinute(spanOf(lane), now) ?? -1,
      align: 'right',
    },
    {
      title: 'GB an hour',
      cell: lane => gbSaid(gbPerHour(spanOf(lane), now)),
      by: lane => gbPerHour(spanOf(lane), now) ?? -1,
      align: 'right',
    },
    { title: 'Batches', cell: lane => count(lane.batches), by: lane => lane.batches, align: 'right' },
  ]
  const whose = run.origin === '' ? '' : ` of ${run.origin}`
  return (
    <section aria-label="The chosen run">
      <h2 className="text-[14px]">
        {KINDS[run.kind]}
        {whose}, {moment(run.startedAt)}
        {run.endedAt === null ? ', goes on' : ''}
      </h2>
      {run.note && <p className="text-[13px] text-ink-2">{run.note}</p>}
      {run.lanes.length > 0 ? (
        <DataTable label="Tables of the run" columns={columns} rows={run.lanes} rowKey={laneKey} />
      ) : (
        <p className="py-2 text-[13px] text-ink-2">Nothing has moved in it.</p>
      )}
    </section>
  )
}

const laneKey = ({ table, mode }: RunLane) => `${table} ${mode}`

const spanOfRun = ({ startedAt, endedAt }: RunAnswer) => ({
  startedAt,
  endedAt: endedAt ?? new Date().toISOString(),
})
