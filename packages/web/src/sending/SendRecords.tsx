import type { SendResult, SentRecord } from '@tide/core/api/send'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutletContext } from 'react-router'
import { api } from '../api/client.ts'
import { moment } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { FindField } from '../parts/Field.tsx'
import { Name } from '../parts/Name.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { send } from './deeds.ts'
import { HandEdits } from './HandEdits.tsx'
import { Results } from './Results.tsx'
import { keySaid } from './said.ts'
import type { SendingStatus } from './status.ts'

/** What stands in the app by us; of one record its whole story. */
export function SendRecords() {
  const { id, state, toName } = useOutletContext<SendingStatus>()
  const [find, setFind] = useState('')
  const [open, setOpen] = useState<SentRecord>()
  const [error, setError] = useState<unknown>()
  const records = useQuery({
    queryKey: ['sent', id, 'records', find],
    queryFn: () => api<SentRecord[]>('GET', `/pipelines/${id}/sent?${new URLSearchParams({ find })}`),
    placeholderData: before => before,
  })
  const story = useQuery({
    queryKey: ['sent', id, 'story', open && keySaid(open.key)],
    queryFn: () =>
      api<SendResult[]>(
        'GET',
        `/pipelines/${id}/results?${new URLSearchParams({ find: JSON.stringify(open!.key) })}`,
      ),
    enabled: open !== undefined,
  })
  const columns: Column<SentRecord>[] = [
    {
      title: 'Row key',
      cell: one => (
        <TextButton aria-expanded={open?.key === one.key} onClick={() => setOpen(one)}>
          <Name>{keySaid(one.key)}</Name>
        </TextButton>
      ),
      by: one => keySaid(one.key),
    },
    {
      title: 'In the app',
      cell: one => <span className="font-mono text-[12px]">{one.id ?? '–'}</span>,
      by: one => one.id ?? '',
    },
    {
      title: 'Values',
      cell: one => (
        <span
          className="block max-w-[400px] truncate font-mono text-[12px] text-ink-2"
          title={JSON.stringify(one.values)}
        >
          {Object.entries(one.values)
            .map(([field, value]) => `${field}: ${value ?? 'nothing'}`)
            .join(', ')}
        </span>
      ),
      by: one => JSON.stringify(one.values),
    },
    { title: 'Accepted', cell: one => moment(one.at), by: one => one.at },
  ]
  return (
    <div className="py-3">
      <div className="flex items-baseline gap-4">
        <div className="w-72">
          <FindField
            label="Find a record by key or value"
            value={find}
            onChange={event => setFind(event.target.value)}
          />
        </div>
        <a
          href={`/api/pipelines/${id}/results/file`}
          download={`sent-${id}.csv`}
          className="ml-auto text-[13px] font-semibold text-link underline-offset-2 hover:underline"
        >
          Save what was sent as CSV
        </a>
      </div>
      <HandEdits pipeline={id} app={toName} waits={state === 'Waiting'} />
      <ErrorNotice error={records.error ?? error} />
      {open && (
        <section className="my-3 border border-line-2 p-3" aria-label="Story of a record">
          <div className="flex items-baseline gap-4">
            <h2 className="text-[14px]">
              <Name>{keySaid(open.key)}</Name>
            </h2>
            <TextButton
              disabled={state !== 'Waiting'}
              onClick={() => void send(id, { deed: 'again', keys: [open.key] }).catch(setError)}
            >
              Send it again
            </TextButton>
            <TextButton className="ml-auto" onClick={() => setOpen(undefined)}>
              Close
            </TextButton>
          </div>
          {story.data && <Results results={story.data} label="Story" />}
        </section>
      )}
      {records.data?.length === 0 && (
        <p className="py-4 text-ink-2">
          {find === '' ? `Nothing stands at ${toName} by us yet.` : 'No such record was sent.'}
        </p>
      )}
      {records.data && records.data.length > 0 && (
        <DataTable
          label="Records in the app"
          columns={columns}
          rows={records.data}
          rowKey={one => JSON.stringify(one.key)}
        />
      )}
    </div>
  )
}
