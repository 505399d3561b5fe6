import type { HeldAnswer } from '@tide/core/api/held'
import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { printName } from '@tide/core/records/dataset'
import { useQueries } from '@tanstack/react-query'
import { useOutletContext } from 'react-router'
import { api } from '../api/client.ts'
import { moment, plural } from '../format.ts'
import { Causes } from '../held/Causes.tsx'
import { useHeld } from '../held/useHeld.ts'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { Name } from '../parts/Name.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'

const ENDS: Record<HeldAnswer['state'], string> = {
  open: 'held',
  superseded: 'a later change took its place',
  landed: 'tried again, and landed',
  corrected: 'corrected',
  dropped: 'let be',
}

/** What a pipeline holds back, and what became of what it held. */
export function HeldSection() {
  const { id, origins, lanes } = useOutletContext<ReplicationStatus>()
  const held = useHeld(id)
  const runs = origins.length > 0 ? origins.map(origin => origin.id) : [id]
  const closed = useQueries({
    queries: runs.map(run => ({
      queryKey: ['held records', run, 'closed'],
      queryFn: () => api<HeldAnswer[]>('GET', `/pipelines/${run}/held/records?closed=true`),
      refetchInterval: 10_000,
    })),
    combine: answers =>
      answers.flatMap(({ data }) => data ?? []).sort((a, b) => (b.closedAt! < a.closedAt! ? -1 : 1)),
  })
  const groups = held.data?.groups ?? []
  const differs = lanes.reduce((sum, lane) => sum + lane.differs, 0)
  const columns: Column<HeldAnswer>[] = [
    { title: 'Closed', cell: one => moment(one.closedAt!), by: one => one.closedAt! },
    { title: 'Table', cell: one => <Name>{printName(one.table)}</Name>, by: one => printName(one.table) },
    { title: 'Key', cell: one => <Name>{one.told.join(', ')}</Name>, by: one => one.told.join() },
    {
      title: 'What became of it',
      cell: one => `${ENDS[one.state]}${one.note ? `: ${one.note}` : ''}`,
      by: one => one.state,
    },
    {
      title: 'It was held because',
      cell: one => <span className="block max-w-sm whitespace-normal">{one.reason}</span>,
      by: one => one.reason,
    },
  ]
  return (
    <section className="py-3" aria-label="Held records">
      <ErrorNotice error={held.error} />
      <p className="mb-3">
        {held.data && (
          <b>
            {groups.length === 0
              ? 'Nothing is held: every row fits.'
              : `${plural(held.data.rows, 'row is', 'rows are')} held back.`}
          </b>
        )}{' '}
        {differs > (held.data?.rows ?? 0) && (
          <span className="text-ink-2">
            {plural(differs, 'row')} at the target are known to differ, those that were let be among them.
          </span>
        )}
      </p>
      {groups.length > 0 && <Causes groups={groups} />}
      {closed.length > 0 && (
        <>
          <h2 className="mt-5 mb-1 text-[14px]">What became of others</h2>
          <DataTable label="Closed records" columns={columns} rows={closed} rowKey={one => String(one.id)} />
        </>
      )}
    </section>
  )
}
