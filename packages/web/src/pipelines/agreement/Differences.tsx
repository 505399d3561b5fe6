import type { ErrandOutcome } from '@tide/core/api/errand'
import type { ReplicationStatus } from '@tide/core/api/pipelines'
import type { DifferenceAnswer } from '@tide/core/api/verification'
import type { DifferenceKind } from '@tide/core/definition/verification'
import { useInfiniteQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { api } from '../../api/client.ts'
import { count, moment, plural } from '../../format.ts'
import { Button, TextButton } from '../../parts/Button.tsx'
import { DataTable, type Column } from '../../parts/DataTable.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { Outcome } from '../../parts/Outcome.tsx'
import { laneTitle } from '../laneTitle.ts'
import { DifferingRow } from './DifferingRow.tsx'
import type { VerifiedLane } from './useVerifications.ts'

const PAGE = 200

/** Rows of a lane of which the sides do not agree: looked at one by one, and repaired. */
export function Differences({ pipeline, of }: { pipeline: ReplicationStatus; of: VerifiedLane }) {
  const { id, toName } = pipeline
  const lane = pipeline.lanes[of.lane]!
  const origin = pipeline.origins.find(({ tag }) => tag === lane.origin)
  const fromName = origin?.connectionName ?? pipeline.fromName
  const place = useRef<HTMLElement>(null)
  useEffect(() => place.current?.scrollIntoView({ block: 'nearest' }), [])
  const queries = useQueryClient()
  const path = `/pipelines/${id}/verifications/${of.verification.id}/lanes/${of.lane}`
  const [open, setOpen] = useState<number>()
  const [ticked, setTicked] = useState<ReadonlySet<number>>(new Set())
  const [outcome, setOutcome] = useState<ErrandOutcome>()
  const pages = useInfiniteQuery({
    queryKey: ['differences', path],
    queryFn: ({ pageParam }) =>
      api<DifferenceAnswer[]>(
        'GET',
        `${path}/differences?${new URLSearchParams({ after: String(pageParam) })}`,
      ),
    initialPageParam: 0,
    getNextPageParam: last => (last.length === PAGE ? last.at(-1)!.id : undefined),
  })
  const list = pages.data?.pages.flat() ?? []
  const left = list.filter(({ repairedAt }) => repairedAt === null)
  const chosen = left.filter(one => ticked.has(one.id))
  const known = pages.hasNextPage ? undefined : chosen.length > 0 ? chosen : left
  const all = of.verified.different + of.verified.onlySource + of.verified.onlyTarget + of.verified.held
  const number = chosen.length > 0 ? chosen.length : all - of.repaired
  const tick = (one: number, on: boolean) => {
    const next = new Set(ticked)
    if (on) next.add(one)
    else next.delete(one)
    setTicked(next)
  }
  const repair = async () => {
    setOutcome(undefined)
    const done = await api<ErrandOutcome>('POST', `${path}/repair`, { ids: chosen.map(one => one.id) })
    setTicked(new Set())
    setOutcome(done)
    await queries.invalidateQueries({ queryKey: ['differences', path] })
    await queries.invalidateQueries({ queryKey: ['verifications', id] })
  }
  const columns: Column<DifferenceAnswer>[] = [
    {
      title: 'Chosen',
      untitled: true,
      cell: one => (
        <input
          type="checkbox"
          aria-label={`Choose ${one.key.join(', ')}`}
          disabled={one.repairedAt !== null}
          checked={ticked.has(one.id)}
          onChange={event => tick(one.id, event.target.checked)}
        />
      ),
    },
    {
      title: 'Key',
      cell: one => (
        <button
          type="button"
          aria-pressed={one.id === open}
          className={`font-mono text-[12px] underline decoration-line-2 underline-offset-2 ${one.id === open ? 'font-semibold' : ''}`}
          onClick={() => setOpen(one.id === open ? undefined : one.id)}
        >
          {one.key.join(', ')}
        </button>
      ),
      by: one => one.key.join(),
    },
    { title: 'How', cell: one => howSaid(one, fromName, toName), by: one => one.kind },
    {
      title: 'Columns',
      cell: one => <span className="font-mono text-[12px]">{one.columns.join(', ')}</span>,
      by: one => one.columns.join(),
    },
    {
      title: 'Repaired',
      cell: one => (one.repairedAt ? moment(one.repairedAt) : <span className="text-ink-3">not yet</span>),
      by: one => one.repairedAt ?? '',
      align: 'right',
    },
  ]
  return (
    <section
      ref={place}
      className="mb-6 border-b border-line-2 pb-4"
      aria-label={`Differences of ${laneTitle(lane)}`}
    >
      <div className="mb-2 flex items-baseline gap-3">
        <h2 className="min-w-0 flex-1 text-[14px]">
          {plural(all, 'row')} of {laneTitle(lane)} {all === 1 ? 'does' : 'do'} not agree
        </h2>
        {number > 0 && (
          <Confirm
            trigger={
              <Button>
                Repair {chosen.length === 0 && number > 1 ? 'all ' : ''}
                {plural(number, 'row')} …
              </Button>
            }
            title={`Repair ${plural(number, 'row')} of ${laneTitle(lane)}?`}
            verb={number === 1 ? 'Repair it' : 'Repair them'}
            danger={known === undefined || known.some(({ kind }) => kind === 'only target')}
            act={repair}
          >
            <RepairSaid known={known} fromName={fromName} toName={toName} />
          </Confirm>
        )}
      </div>
      <div className="space-y-2">
        <Outcome outcome={outcome} />
        <ErrorNotice error={pages.error} />
      </div>
      {open !== undefined && (
        <DifferingRow key={open} path={`${path}/differences/${open}`} fromName={fromName} toName={toName} />
      )}
      <DataTable label="Differences" columns={columns} rows={list} rowKey={one => String(one.id)} />
      {pages.hasNextPage && (
        <p className="py-2 text-[13px]">
          <TextButton disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
            Show more
          </TextButton>{' '}
          <span className="text-ink-2">{count(list.length)} are shown.</span>
        </p>
      )}
    </section>
  )
}

function RepairSaid({
  known,
  fromName,
  toName,
}: {
  known: readonly DifferenceAnswer[] | undefined
  fromName: string
  toName: string
}) {
  const of = (...kinds: DifferenceKind[]) => known?.filter(({ kind }) => kinds.includes(kind)).length ?? 0
  const [written, missing, gone] = [of('different', 'held'), of('only source'), of('only target')]
  return (
    <>
      {known ? (
        <ul className="list-disc pl-5">
          {written > 0 && (
            <li>
              {plural(written, 'row is', 'rows are')} overwritten at {toName}.
            </li>
          )}
          {missing > 0 && <li>{plural(missing, 'row is', 'rows are')} put there.</li>}
          {gone > 0 && (
            <li>
              <b>{plural(gone, 'row is', 'rows are')} deleted</b> at {toName}, since {fromName} has none.
            </li>
          )}
        </ul>
      ) : (
        <p>
          What {fromName} has is written at {toName}; <b>what it does not have is deleted there.</b>
        </p>
      )}
      <p>
        Each row is read at {fromName} as it stands at that moment, and written between two landings, so that
        no newer change is overwritten.
      </p>
    </>
  )
}

function howSaid({ kind, columns }: DifferenceAnswer, fromName: string, toName: string): string {
  switch (kind) {
    case 'different':
      return columns.length > 0 ? 'values differ' : `more than one at ${toName}, or none can be made`
    case 'only source':
      return `only at ${fromName}`
    case 'only target':
      return `only at ${toName}`
    case 'held':
      return 'held back'
  }
}
