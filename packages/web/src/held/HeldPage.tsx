import type { ErrandOutcome } from '@tide/core/api/errand'
import type { HeldGroup } from '@tide/core/api/held'
import { datasetId, printName } from '@tide/core/records/dataset'
import { useState } from 'react'
import { useParams, useSearchParams } from 'react-router'
import { useLive } from '../api/live.ts'
import { ago, count, plural } from '../format.ts'
import { useWhere } from '../frame/crumbs.ts'
import { Ledger } from '../frame/Ledger.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { Outcome } from '../parts/Outcome.tsx'
import { Causes } from './Causes.tsx'
import { HeldSheet } from './HeldSheet.tsx'
import { groupPath } from './groupPath.ts'
import { useHeld, useWaitingInApps } from './useHeld.ts'

/** Rows that targets would not take, by cause. */
export function HeldPage() {
  const { run } = useParams()
  const [search] = useSearchParams()
  const held = useHeld()
  const [outcome, setOutcome] = useState<ErrandOutcome>()
  const groups = held.data?.groups ?? []
  const inApps = useWaitingInApps()
  const rows = (held.data?.rows ?? 0) + inApps.reduce((sum, one) => sum + one.held, 0)
  const open = groups.find(
    group =>
      group.run === run &&
      datasetId(group.table) === search.get('table') &&
      group.cause === search.get('cause'),
  )
  useWhere(
    { title: 'Held', ...(open ? { to: '/held' } : {}) },
    ...(open ? [{ title: printName(open.table) }] : []),
  )
  return (
    <>
      <Ledger
        title="Held"
        action={held.data && <span className="text-ink-2">{plural(rows, 'row')}</span>}
        findLabel="Find by table, pipeline or reason"
        empty="Nothing is held: every row fits."
        rows={[
          ...inApps.map(({ id, name, to, what, says, held: waiting }) => ({
            id,
            to,
            active: false,
            text: `${name} ${what} ${says}`,
            content: (
              <>
                <span className="flex justify-between gap-2 font-semibold">
                  <span className="truncate">{what}</span>
                  <span>{count(waiting)}</span>
                </span>
                <span className="block truncate text-[13px] text-ink-2">{says}</span>
                <span className="block truncate text-[13px] text-ink-2">{name}</span>
              </>
            ),
          })),
          ...groups.map(group => ({
            id: groupPath(group),
            to: groupPath(group),
            active: group === open,
            text: `${group.name} ${printName(group.table)} ${group.origin} ${group.reason}`,
            content: <Row group={group} />,
          })),
        ]}
      />
      <main className="min-w-0 flex-1 overflow-auto">
        <ErrorNotice error={held.error} />
        {open ? (
          <HeldSheet key={groupPath(open)} group={open} outcome={outcome} tell={setOutcome} />
        ) : (
          <div className="px-6 py-4">
            <Outcome outcome={outcome} />
            <h1 className="text-[20px]">
              {rows > 0 ? `${plural(rows, 'row is', 'rows are')} held back` : 'Nothing is held'}
            </h1>
            <p className="my-2 max-w-2xl text-ink-2">
              What a target will not take is kept here with the reason, while everything else lands. It can be
              tried again, corrected, or let be; a later change of the row that fits takes its place by
              itself.
            </p>
            {groups.length > 0 && <Causes groups={groups} />}
          </div>
        )}
      </main>
    </>
  )
}

function Row({ group }: { group: HeldGroup }) {
  const now = useLive(live => live.now)
  return (
    <>
      <span className="flex justify-between gap-2 font-semibold">
        <span className="truncate">{printName(group.table)}</span>
        <span>{count(group.rows)}</span>
      </span>
      <span className="block truncate text-[13px] text-ink-2">
        {group.column !== null && `${group.column}: `}
        {group.reason}
      </span>
      <span className="flex justify-between gap-2 text-[13px] text-ink-2">
        <span className="truncate">
          {group.name}
          {group.origin && `, ${group.origin}`}
        </span>
        <span className="whitespace-nowrap">{ago(group.newest, now)}</span>
      </span>
    </>
  )
}
