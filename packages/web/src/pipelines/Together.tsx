import type { Grid } from '@tide/core/api/browse'
import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { useMutation } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { api } from '../api/client.ts'
import { count, plural } from '../format.ts'
import { SelectField } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { ResultGrid } from '../parts/ResultGrid.tsx'
import { SqlBox } from '../parts/SqlBox.tsx'
import { laneTitle } from './laneTitle.ts'

const quoted = (name: string) => `"${name.replaceAll('"', '""')}"`

/** What is archived and what still lives at the source, as one table to ask about. */
export function Together({ pipeline }: { pipeline: ReplicationStatus }) {
  const { id, lanes, fromName, toName } = pipeline
  const [lane, setLane] = useState(0)
  return (
    <section aria-label="Live and archived rows together" className="flex h-full flex-col gap-3 py-3">
      <p className="text-[13px] text-ink-2">
        The rows in {toName} and those that still live at {fromName}, as one table;{' '}
        <span className="font-mono text-[12px]">in_archive</span> tells them apart. A row that both have is
        the live one. The live ones are brought for each question.
      </p>
      {lanes.length > 1 && (
        <div className="w-64">
          <SelectField
            label="Lane"
            value={lane}
            onChange={event => setLane(Number(event.target.value))}
            options={lanes.map((lane, i) => ({ value: String(i), title: laneTitle(lane) }))}
          />
        </div>
      )}
      <Ask key={lane} path={`/pipelines/${id}/lanes/${lane}/together`} table={lanes[lane]!.target.name} />
    </section>
  )
}

function Ask({ path, table }: { path: string; table: string }) {
  const [sql, setSql] = useState(
    `SELECT in_archive, count(*) AS rows\n  FROM ${quoted(table)}\n GROUP BY in_archive ORDER BY in_archive`,
  )
  const stop = useRef<AbortController>(null)
  const asked = useMutation({
    mutationFn: () => api<Grid>('POST', path, { sql }, (stop.current = new AbortController()).signal),
  })
  // Whoever leaves waits no longer.
  useEffect(() => () => stop.current?.abort(), [])
  const run = () => {
    if (!asked.isPending && sql.trim() !== '') asked.mutate()
  }
  return (
    <>
      <SqlBox
        id="together"
        sql={sql}
        change={setSql}
        run={run}
        stop={asked.isPending ? () => stop.current?.abort() : undefined}
        verb={asked.isPending ? 'Bringing the live rows …' : 'Run'}
        busy={asked.isPending}
      >
        {asked.data
          ? `${plural(asked.data.rows.length, 'row')} in ${count(asked.data.milliseconds)} ms.`
          : 'Ctrl+Enter. Reading only; at most 1,000 rows and 5,000,000 live ones.'}
      </SqlBox>
      <ErrorNotice error={asked.error} />
      {asked.data && (
        <div className="min-h-40 flex-1">
          <ResultGrid grid={asked.data} label={`Live and archived rows of ${table}`} />
        </div>
      )}
    </>
  )
}
