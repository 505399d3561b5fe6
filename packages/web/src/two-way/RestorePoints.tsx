import type { UndoForeseen } from '@tide/core/api/two-way'
import { POINTS_KEPT, type RestorePoint } from '@tide/core/two-way/restore'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../api/client.ts'
import { bytes, count, moment } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { askTwoWay } from './deeds.ts'
import type { TwoWayPipeline } from './status.ts'
import { UndoRows } from './UndoForeseenList.tsx'

/** So many are shown before somebody asks for more. */
const AT_FIRST = 3

const both = (records: RestorePoint['records'], side: 'a' | 'b') =>
  Object.values(records).reduce((sum, one) => sum + one[side], 0)

/** Moments at which the records of both sides were kept, and to which they can be written back. */
export function RestorePoints({ pipeline }: { pipeline: TwoWayPipeline }) {
  const { id, fromName, toName, state, twoWay } = pipeline
  const points = useQuery({
    queryKey: ['two-way', id, 'restore-points', twoWay?.last?.endedAt],
    queryFn: () => api<RestorePoint[]>('GET', `/pipelines/${id}/restore-points`),
    placeholderData: before => before,
  })
  const [all, setAll] = useState(false)
  const [error, setError] = useState<unknown>()
  const shown = all ? points.data : points.data?.slice(0, AT_FIRST)
  const ready = state === 'Following' || state === 'Paused'
  const columns: Column<RestorePoint>[] = [
    { title: 'Kept', cell: one => moment(one.at), by: one => one.at },
    { title: 'Why', cell: one => one.why, by: one => one.why },
    ...(['a', 'b'] as const).map((side): Column<RestorePoint> => ({
      title: side === 'a' ? fromName : toName,
      cell: one => (
        <span className="flex flex-wrap gap-x-3">
          {Object.entries(one.records).map(([lane, records]) => (
            <a
              key={lane}
              className="text-link underline"
              download
              href={`/api/pipelines/${id}/restore-points/${one.id}/records?${new URLSearchParams({ lane, side })}`}
            >
              {count(records[side])} {lane.split(' ↔ ')[side === 'a' ? 0 : 1]}
            </a>
          ))}
        </span>
      ),
      by: one => both(one.records, side),
    })),
    { title: 'Size', cell: one => bytes(one.bytes), by: one => one.bytes },
    {
      title: '',
      cell: one => (
        <Confirm
          trigger={
            <TextButton disabled={!ready} aria-label={`Write back what was kept ${moment(one.at)}`}>
              Write back …
            </TextButton>
          }
          title={`Write records back as they were ${moment(one.at)}?`}
          verb="Write them back"
          danger
          act={() => askTwoWay(id, { deed: 'restore', point: one.id })}
        >
          <RestoreForeseen pipeline={pipeline} point={one.id} />
        </Confirm>
      ),
    },
  ]
  return (
    <section className="mt-4 mb-5" aria-label="Restore points">
      <div className="flex items-baseline justify-between gap-4">
        <h2 className="text-[15px]">Restore points</h2>
        <TextButton disabled={!ready} onClick={() => void askTwoWay(id, { deed: 'keep' }).catch(setError)}>
          Make one now
        </TextButton>
      </div>
      <p className="text-[13px] text-ink-2">
        The fields that are joined, of the records on both sides: made before the first pass, and before one
        with another setup. The last {POINTS_KEPT} are kept.
      </p>
      <ErrorNotice error={error ?? points.error} />
      {points.data?.length === 0 && <p className="py-2 text-[13px] text-ink-2">None yet.</p>}
      {shown && shown.length > 0 && (
        <DataTable label="Restore points" columns={columns} rows={shown} rowKey={one => one.id} />
      )}
      {points.data && points.data.length > AT_FIRST && (
        <TextButton onClick={() => setAll(!all)}>
          {all ? 'Show the newest alone' : `Show all ${points.data.length}`}
        </TextButton>
      )}
    </section>
  )
}

function RestoreForeseen({ pipeline, point }: { pipeline: TwoWayPipeline; point: string }) {
  const { id } = pipeline
  const { data, error } = useQuery({
    queryKey: ['two-way', id, 'restoring', point],
    queryFn: () => api<UndoForeseen>('GET', `/pipelines/${id}/restore-points/${point}/foreseen`),
  })
  return (
    <>
      <ErrorNotice error={error} />
      {!data && !error && <p role="status">Looking at what has changed since …</p>}
      {data?.change === 0 && <p>All paired records say what they said then.</p>}
      {data && data.change > 0 && (
        <>
          <p role="status">
            {count(data.change)} {data.change === 1 ? 'record says' : 'records say'} something else now, and{' '}
            {data.change === 1 ? 'is' : 'are'} written back, <b>whoever has edited them since</b>. Records
            that were made since stay; those that are gone are not made again. To take back only what this
            pipeline has written, undo the span of time since then.
          </p>
          <UndoRows pipeline={pipeline} foreseen={data} label="What is written back" />
        </>
      )}
    </>
  )
}
