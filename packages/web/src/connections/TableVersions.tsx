import type { Grid, TableVersion } from '@tide/core/api/browse'
import type { Dataset } from '@tide/core/records/dataset'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../api/client.ts'
import { bytes as size, count, moment, plural } from '../format.ts'
import { Copyable } from '../parts/Copyable.tsx'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { ResultGrid } from '../parts/ResultGrid.tsx'
import { TextButton } from '../parts/Button.tsx'

/** What a table of a lake was: its versions, the rows of one, and what came and went with it. */
export function TableVersions({ connection, dataset }: { connection: string; dataset: Dataset }) {
  const { namespace, name } = dataset
  const table = { namespace, name }
  const [shown, setShown] = useState<{ version: string; since?: string }>()
  const versions = useQuery({
    queryKey: ['versions', connection, table],
    queryFn: () =>
      api<TableVersion[]>('GET', `/connections/${connection}/versions?${new URLSearchParams(table)}`),
  })
  const list = versions.data ?? []
  const merged = dataset.key.length > 0
  const before = (id: string) => list[list.findIndex(one => one.id === id) + 1]?.id
  const columns: Column<TableVersion>[] = [
    {
      title: merged ? 'Snapshot' : 'File',
      cell: ({ at, completeUpTo, position }) => (
        <span
          title={
            completeUpTo === null
              ? undefined
              : `Complete up to ${moment(completeUpTo)}, at ${position ?? '–'}`
          }
        >
          {moment(at)}
        </span>
      ),
    },
    { title: 'What', cell: ({ operation }) => operation },
    { title: merged ? 'Put' : 'Rows', cell: ({ added }) => count(added), align: 'right' },
    ...(merged
      ? [{ title: 'Gone', cell: ({ removed }: TableVersion) => count(removed), align: 'right' as const }]
      : []),
    { title: 'Rows then', cell: ({ rows }) => count(rows), align: 'right' },
    { title: 'Files', cell: ({ files }) => count(files), align: 'right' },
    {
      title: 'Look at it',
      untitled: true,
      cell: ({ id }) => (
        <span className="flex gap-3 whitespace-nowrap">
          <TextButton className="text-[12px]" onClick={() => setShown({ version: id })}>
            Rows
          </TextButton>
          {merged && before(id) !== undefined && (
            <TextButton className="text-[12px]" onClick={() => setShown({ version: id, since: before(id)! })}>
              What changed
            </TextButton>
          )}
        </span>
      ),
    },
  ]
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <ErrorNotice error={versions.error} />
      <p className="py-1 text-[13px] text-ink-2">
        {versions.isPending
          ? 'Reading …'
          : list.length === 0
            ? 'Nothing has been published yet.'
            : `The newest ${plural(list.length, merged ? 'snapshot' : 'manifest')}; ${size(dataset.bytes)} in ${plural(list[0]!.files, 'file')} now.`}
      </p>
      <div className="max-h-56 overflow-y-auto">
        <DataTable label={`Versions of ${name}`} columns={columns} rows={list} rowKey={({ id }) => id} />
      </div>
      {shown && (
        <VersionRows key={JSON.stringify(shown)} connection={connection} table={table} shown={shown} />
      )}
    </div>
  )
}

function VersionRows({
  connection,
  table,
  shown,
}: {
  connection: string
  table: { namespace: string; name: string }
  shown: { version: string; since?: string }
}) {
  const rows = useQuery({
    queryKey: ['version', connection, table, shown],
    queryFn: () =>
      api<Grid>('GET', `/connections/${connection}/preview?${new URLSearchParams({ ...table, ...shown })}`),
  })
  const { data } = rows
  return (
    <div className="mt-2 flex min-h-0 flex-1 flex-col">
      <p className="text-[13px] text-ink-2">
        {shown.since === undefined ? 'As it was with ' : 'What came and went with '}
        <Copyable text={shown.version} className="text-[12px]" />
        {data && shown.since === undefined && data.total !== null && `: ${plural(data.total, 'row')}`}
        {data && shown.since !== undefined && data.rows.length === 0 && ': no row is another.'}
        {rows.isPending && ' …'}
      </p>
      <ErrorNotice error={rows.error} />
      <div className="mt-1 min-h-0 flex-1 basis-60">
        {data && data.rows.length > 0 && <ResultGrid grid={data} label="Rows of a version" />}
      </div>
    </div>
  )
}
