import type { UndoForeseen, Undone } from '@tide/core/api/two-way'
import { useQuery } from '@tanstack/react-query'
import { api } from '../api/client.ts'
import { plural } from '../format.ts'
import { ErrorNotice } from '../parts/Notice.tsx'
import { valueSaid } from './said.ts'
import type { TwoWayPipeline } from './status.ts'

const WHY = {
  'edited since': 'left: somebody has edited it since',
  'deleted then': 'was deleted, and is not made again',
  gone: 'left: it is gone',
  'not creatable': 'was deleted; its app lets nobody make it again, or needs what is not known',
  'not deletable': 'left: its app lets nobody delete it',
  'nothing to write back': 'left: there is nothing to write back',
} as const

function allOf(foreseen: UndoForeseen): number {
  return foreseen.change + foreseen.delete + foreseen.create + foreseen.leave
}

/** What undoing it would do, record by record, as they were seen last. */
export function UndoForeseenList({ pipeline, of }: { pipeline: TwoWayPipeline; of: Undone }) {
  const { id } = pipeline
  const { data, error } = useQuery({
    queryKey: ['two-way', id, 'undone', of],
    queryFn: () => api<UndoForeseen>('GET', `/pipelines/${id}/undone?${new URLSearchParams({ ...of })}`),
  })
  const all = data ? allOf(data) : 0
  return (
    <>
      <ErrorNotice error={error} />
      {!data && !error && <p role="status">Looking at what was written …</p>}
      {data && all === 0 && <p>Nothing was written then.</p>}
      {data && all > 0 && (
        <>
          <p role="status">
            {plural(data.change, 'record')} written back to what they said before
            {data.delete > 0 && (
              <>
                , <b>{plural(data.delete, 'record')} deleted that were made then</b>
              </>
            )}
            {data.create > 0 && `, ${plural(data.create, 'record')} made again that were deleted then`}
            {data.leave > 0 && `, ${data.leave.toLocaleString('en')} left as they are`}. Whatever is edited
            until then is left, too.
          </p>
          <UndoRows pipeline={pipeline} foreseen={data} label="What is undone" />
        </>
      )}
    </>
  )
}

/** The first of the records, each with what becomes of it. */
export function UndoRows({
  pipeline: { fromName, toName },
  foreseen,
  label: title,
}: {
  pipeline: TwoWayPipeline
  foreseen: UndoForeseen
  label: string
}) {
  const all = allOf(foreseen)
  return (
    <>
      <ul className="max-h-56 overflow-auto text-[13px]" aria-label={title} tabIndex={0}>
        {foreseen.rows.map(({ side, record, label, undoing }) => (
          <li key={`${side} ${record}`} className="border-b border-line py-1">
            {side === 'a' ? fromName : toName} <span className="font-mono text-[12px]">{record}</span>{' '}
            {label && <span className="text-ink">{label} </span>}
            {undoing.does === 'delete' && <b>deleted</b>}
            {undoing.does === 'create' && (
              <>made again, with {plural(undoing.fields.length, 'field')}; its other half stays gone</>
            )}
            {undoing.does === 'leave' && WHY[undoing.why]}
            {undoing.does === 'change' &&
              undoing.fields.map(({ field, is, becomes }) => (
                <div key={field}>
                  {field}: {valueSaid(is)} → {valueSaid(becomes)}
                </div>
              ))}
          </li>
        ))}
      </ul>
      {all > foreseen.rows.length && <p>And {(all - foreseen.rows.length).toLocaleString('en')} more.</p>}
    </>
  )
}
