import type { RunAnswer } from '@tide/core/api/runs'
import { runSeconds, type RunLane } from '@tide/core/definition/run'
import { per } from '@tide/core/runs/table'
import { useState } from 'react'
import { Link } from 'react-router'
import { useLive } from '../api/live.ts'
import { count, duration } from '../format.ts'
import { useWhere } from '../frame/crumbs.ts'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { InlineSelect } from '../parts/Field.tsx'
import { Name } from '../parts/Name.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { Overview } from '../pipelines/all/Overview.tsx'
import { RunFiles } from './RunFiles.tsx'
import { gbSaid, rateSaid } from './said.ts'
import { useRuns } from './useRuns.ts'

const DAYS = [
  { value: '1', title: 'the last day' },
  { value: '7', title: 'the last week' },
  { value: '30', title: 'the last 30 days' },
]

/** Of one table of one pipeline, all that was moved in one mode. */
interface TableDone {
  key: string
  pipeline: string
  pipelineName: string
  origin: string
  table: string
  mode: RunLane['mode']
  rows: number
  bytes: number
  batches: number
  seconds: number
}

/** What was moved of each table, how fast, and in which batches. */
export function RunsByTable() {
  useWhere({ title: 'Pipelines', to: '/pipelines' }, { title: 'Runs by table' })
  const now = useLive(live => live.now)
  const [days, setDays] = useState('1')
  const asked = { days: Number(days) }
  const runs = useRuns(asked)
  const rows = runs.data ? byTable(runs.data, now) : []
  return (
    <Overview>
      <div className="my-3 flex items-center gap-4">
        <InlineSelect
          label="Span"
          options={DAYS}
          value={days}
          onChange={event => setDays(event.target.value)}
        />
        <span className="flex-1" />
        <RunFiles asked={asked} />
      </div>
      <ErrorNotice error={runs.error} />
      {runs.isSuccess && rows.length === 0 && (
        <p className="py-4 text-ink-2">Nothing was moved in that time.</p>
      )}
      {rows.length > 0 && (
        <DataTable label="Runs by table" columns={COLUMNS} rows={rows} rowKey={({ key }) => key} />
      )}
    </Overview>
  )
}

const rate = ({ rows, seconds }: TableDone) => per(rows, seconds, 60)
const volume = ({ bytes, seconds }: TableDone) => per(bytes / 1e9, seconds, 3600)

const COLUMNS: Column<TableDone>[] = [
  { title: 'Table', cell: ({ table }) => <Name>{table}</Name>, by: ({ table }) => table },
  {
    title: 'Pipeline',
    cell: ({ pipeline, pipelineName, origin }) => (
      <>
        <Link className="underline decoration-line-2 underline-offset-2" to={`/pipelines/${pipeline}/runs`}>
          {pipelineName}
        </Link>
        {origin !== '' && <span className="text-ink-2"> {origin}</span>}
      </>
    ),
    by: ({ pipelineName, origin }) => `${pipelineName} ${origin}`,
  },
  { title: 'Mode', cell: ({ mode }) => mode, by: ({ mode }) => mode },
  { title: 'Rows', cell: ({ rows }) => count(rows), by: ({ rows }) => rows, align: 'right' },
  {
    title: 'Elapsed',
    cell: ({ seconds }) => duration(seconds),
    by: ({ seconds }) => seconds,
    align: 'right',
  },
  { title: 'Rows a minute', cell: one => rateSaid(rate(one)), by: one => rate(one) ?? -1, align: 'right' },
  { title: 'GB an hour', cell: one => gbSaid(volume(one)), by: one => volume(one) ?? -1, align: 'right' },
  {
    title: 'Rows a batch',
    cell: ({ rows, batches }) => (batches === 0 ? '–' : count(rows / batches)),
    by: ({ rows, batches }) => (batches === 0 ? 0 : rows / batches),
    align: 'right',
  },
]

function byTable(runs: readonly RunAnswer[], now: number): TableDone[] {
  const tables = new Map<string, TableDone>()
  for (const run of runs) {
    if (run.kind === 'verify') continue
    for (const lane of run.lanes) {
      const { pipeline, pipelineName, origin } = run
      const { table, mode } = lane
      const key = [pipeline, origin, table, mode].join(' ')
      const known = tables.get(key) ?? {
        ...{ key, pipeline, pipelineName, origin, table, mode },
        ...{ rows: 0, bytes: 0, batches: 0, seconds: 0 },
      }
      tables.set(key, {
        ...known,
        rows: known.rows + lane.rows,
        bytes: known.bytes + lane.bytes,
        batches: known.batches + lane.batches,
        seconds: known.seconds + runSeconds(run.kind === 'follow' ? run : lane, now),
      })
    }
  }
  return [...tables.values()].sort((a, b) => b.rows - a.rows)
}
