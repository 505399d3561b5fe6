import type { PairSeen, TwoWayTrail } from '@tide/core/api/two-way'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutletContext, useSearchParams } from 'react-router'
import { api } from '../api/client.ts'
import { moment } from '../format.ts'
import { Button, TextButton } from '../parts/Button.tsx'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { FindField, InlineSelect } from '../parts/Field.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { askTwoWay } from './deeds.ts'
import { LinkedPairs } from './LinkedPairs.tsx'
import { PairSides } from './PairSides.tsx'
import { TrailTable } from './TrailTable.tsx'
import type { TwoWayPipeline } from './status.ts'

const ONLY = [
  { value: '', title: 'all of them' },
  { value: 'held', title: 'held for a person' },
  { value: 'waiting', title: 'waiting for another record' },
  { value: 'asleep', title: 'asleep' },
  { value: 'alone', title: 'without another half' },
]

/** Every pair; of one both halves, and what was written to it and why. */
export function TwoWayPairs() {
  const { id, fromName, toName, definition, twoWay } = useOutletContext<TwoWayPipeline>()
  const [search, setSearch] = useSearchParams()
  const [find, only] = [search.get('find') ?? '', search.get('only') ?? '']
  const [open, setOpen] = useState<string>()
  const called = { a: fromName, b: toName }
  const put = (part: Record<string, string>) =>
    setSearch({ ...(find && { find }), ...(only && { only }), ...part }, { replace: true })
  const pairs = useQuery({
    queryKey: ['two-way', id, 'pairs', find, only, twoWay?.last?.endedAt],
    queryFn: () => api<PairSeen[]>('GET', `/pipelines/${id}/pairs?${new URLSearchParams({ find, only })}`),
    placeholderData: before => before,
  })
  const shown = pairs.data?.find(one => one.id === open)
  const trail = useQuery({
    queryKey: ['two-way', id, 'trail', open, twoWay?.last?.endedAt],
    queryFn: () => api<TwoWayTrail[]>('GET', `/pipelines/${id}/pairs/${open}/trail`),
    enabled: shown !== undefined,
    placeholderData: before => before,
  })
  const columns: Column<PairSeen>[] = [
    {
      title: fromName,
      cell: one => <span className="font-mono text-[12px]">{one.a?.id ?? '–'}</span>,
      by: one => one.a?.id ?? '',
    },
    {
      title: toName,
      cell: one => <span className="font-mono text-[12px]">{one.b?.id ?? '–'}</span>,
      by: one => one.b?.id ?? '',
    },
    {
      title: 'Called',
      cell: one => (
        <TextButton
          aria-expanded={open === one.id}
          onClick={() => setOpen(open === one.id ? undefined : one.id)}
        >
          {one.label ?? one.a?.id ?? one.b?.id ?? one.id}
        </TextButton>
      ),
      by: one => one.label ?? '',
    },
    {
      title: 'State',
      cell: one =>
        one.held.length > 0 ? (
          <b className="text-buoy">held</b>
        ) : one.waits ? (
          'waits for another record'
        ) : one.a && one.b ? (
          one.state
        ) : one.state === 'apart' ? (
          'apart'
        ) : (
          'without another half'
        ),
      by: one => `${one.held.length > 0} ${one.state}`,
    },
    { title: 'Started in', cell: one => called[one.origin], by: one => called[one.origin] },
    { title: 'Looked at', cell: one => moment(one.changedAt), by: one => one.changedAt },
  ]
  return (
    <div className="py-3">
      <div className="flex items-baseline gap-4">
        <div className="w-72">
          <FindField
            label="Find a pair by key or value"
            value={find}
            onChange={event => put({ find: event.target.value })}
          />
        </div>
        <InlineSelect
          label="Which pairs"
          value={only}
          options={ONLY}
          onChange={event => put({ only: event.target.value })}
        />
      </div>
      <ErrorNotice error={pairs.error} />
      {shown && (
        <section className="my-3 border border-line-2 p-3" aria-label="A pair">
          <div className="flex items-baseline gap-4">
            <h2 className="text-[14px]">{shown.label ?? shown.a?.id ?? shown.b?.id}</h2>
            <span className="ml-auto flex gap-2">
              {shown.a && shown.b && (
                <Confirm
                  trigger={<Button look="text">Take apart …</Button>}
                  title="Take this pair apart?"
                  verb="Take it apart"
                  act={() => askTwoWay(id, { deed: 'take apart', pairs: [shown.id] })}
                >
                  <p>
                    Both records stay as they are. Nothing is carried from one to the other any more, and
                    neither is made anew on the other side.
                  </p>
                </Confirm>
              )}
              <Button look="text" onClick={() => setOpen(undefined)}>
                Close
              </Button>
            </span>
          </div>
          <PairSides pair={shown} definition={definition} called={called} />
          {shown.held.map(({ reason, remedy, join }) => (
            <p key={`${join} ${reason}`} className="mt-1 text-[13px]">
              <b className="text-buoy">{reason}</b> <span className="text-ink-2">{remedy}</span>
            </p>
          ))}
          <LinkedPairs
            pipeline={id}
            pair={shown.id}
            at={twoWay?.last?.endedAt}
            called={called}
            open={one => {
              put({ find: one.a?.id ?? one.b?.id ?? '' })
              setOpen(one.id)
            }}
          />
          <h3 className="mt-3 text-[13px] font-semibold">Why it is as it is</h3>
          {trail.data && trail.data.length > 0 ? (
            <TrailTable trail={trail.data} called={called} label="Trail of the pair" />
          ) : (
            <p className="text-[13px] text-ink-2">Nothing was written to it: both halves said the same.</p>
          )}
        </section>
      )}
      {pairs.data?.length === 0 && (
        <p className="py-4 text-ink-2">{find === '' && only === '' ? 'No pairs yet.' : 'No such pair.'}</p>
      )}
      {pairs.data && pairs.data.length > 0 && (
        <DataTable label="Pairs" columns={columns} rows={pairs.data} rowKey={one => one.id} />
      )}
    </div>
  )
}
