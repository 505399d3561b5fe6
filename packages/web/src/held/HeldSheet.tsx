import type { ErrandOutcome } from '@tide/core/api/errand'
import type { HeldAnswer, HeldGroup } from '@tide/core/api/held'
import { datasetId, printName } from '@tide/core/records/dataset'
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'
import { api } from '../api/client.ts'
import { useLive } from '../api/live.ts'
import { ago, count, moment, plural } from '../format.ts'
import { Button } from '../parts/Button.tsx'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { ErrorNotice, Notice } from '../parts/Notice.tsx'
import { Outcome } from '../parts/Outcome.tsx'
import { Correction } from './Correction.tsx'
import { LetBe } from './LetBe.tsx'

interface HeldSheetProps {
  group: HeldGroup
  outcome: ErrandOutcome | undefined
  /** What has come of something; when no more is held, the sheet is not there to say so. */
  tell: (outcome: ErrandOutcome | undefined) => void
}

/** The records of one cause: what would not do, row by row, and what to do about it. */
export function HeldSheet({ group, outcome, tell }: HeldSheetProps) {
  const { run, pipeline, table, cause, rows, remedy, name, origin } = group
  const now = useLive(live => live.now)
  const queries = useQueryClient()
  const [chosen, setChosen] = useState<number>()
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const whose = { table: datasetId(table), cause }
  const records = useQuery({
    queryKey: ['held records', run, whose],
    queryFn: () => api<HeldAnswer[]>('GET', `/pipelines/${run}/held/records?${new URLSearchParams(whose)}`),
    refetchInterval: 5_000,
  })
  const settle = async (deed: object) => {
    setBusy(true)
    setError(undefined)
    tell(undefined)
    try {
      tell(await api<ErrandOutcome>('POST', `/pipelines/${run}/held`, deed))
    } finally {
      setBusy(false)
      await queries.invalidateQueries({ queryKey: ['held records'] })
      await queries.invalidateQueries({ queryKey: ['held'] })
    }
  }
  const tryTo = (deed: object) => void settle(deed).catch(setError)
  const list = records.data ?? []
  const open = list.find(({ id }) => id === chosen)
  const columns: Column<HeldAnswer>[] = [
    {
      title: list[0]?.key.join(', ') ?? 'Key',
      cell: one => (
        <button
          type="button"
          aria-pressed={one.id === chosen}
          className={`font-mono text-[12px] underline decoration-line-2 underline-offset-2 ${one.id === chosen ? 'font-semibold' : ''}`}
          onClick={() => setChosen(one.id === chosen ? undefined : one.id)}
        >
          {one.told.join(', ')}
        </button>
      ),
      by: one => one.told.join(),
    },
    {
      title: 'Why',
      cell: one => (
        <span className="block max-w-md whitespace-normal">
          <Why of={one} />
        </span>
      ),
      by: one => one.reason,
    },
    {
      title: 'Behind it',
      cell: one => (one.behind > 0 ? `${count(one.behind)} more of the row` : '–'),
      by: one => one.behind,
      align: 'right',
    },
    {
      title: 'Committed',
      cell: one => (one.committedAt ? moment(one.committedAt) : 'with the copy'),
      by: one => one.committedAt ?? '',
      align: 'right',
    },
    {
      title: 'Held',
      cell: one => <span title={moment(one.heldAt)}>{ago(one.heldAt, now)}</span>,
      by: one => one.heldAt,
      align: 'right',
    },
  ]
  return (
    <article className="px-6 py-4">
      <header className="flex items-start gap-2">
        <div className="min-w-0 flex-1">
          <h1 className="text-[20px] leading-tight">
            {plural(rows, 'row')} of {printName(table)} {rows === 1 ? 'does' : 'do'} not fit
          </h1>
          <p className="mt-0.5 text-ink-2">
            In{' '}
            <Link
              className="underline decoration-line-2 underline-offset-2"
              to={`/pipelines/${pipeline}/held`}
            >
              {name}
            </Link>
            {origin && `, from ${origin}`}. All other rows land.
          </p>
        </div>
        <LetBe
          what={rows === 1 ? 'this row' : `all ${count(rows)} rows`}
          act={note => settle({ deed: 'drop', note, ...whose })}
        />
        <Button look="filled" disabled={busy} onClick={() => tryTo({ deed: 'retry', ...whose })}>
          {rows === 1 ? 'Try it again' : `Try all ${count(rows)} again`}
        </Button>
      </header>
      <div className="mt-3 space-y-2">
        <Notice level="warning" title={<Why of={group} />}>
          {remedy}
        </Notice>
        {busy && (
          <p role="status" className="text-[13px] text-ink-2">
            The pipeline gets to it between two landings …
          </p>
        )}
        <Outcome outcome={outcome} />
        <ErrorNotice error={error ?? records.error} />
      </div>
      {open && (
        <Correction
          key={open.id}
          record={open}
          busy={busy}
          retry={() => tryTo({ deed: 'retry', ids: [open.id] })}
          correct={values => tryTo({ deed: 'correct', ids: [open.id], values })}
          letBe={note => settle({ deed: 'drop', ids: [open.id], note })}
        />
      )}
      <div className="mt-4">
        <DataTable label="Held records" columns={columns} rows={list} rowKey={one => String(one.id)} />
        {list.length === 100 && (
          <p className="py-1 text-[12px] text-ink-2">
            The newest hundred are shown; what is done to all is done to all.
          </p>
        )}
      </div>
    </article>
  )
}

function Why({ of: { column, reason } }: { of: Pick<HeldAnswer, 'column' | 'reason'> }) {
  return (
    <>
      {column !== null && <span className="font-mono text-[12px]">{column}: </span>}
      {reason}
    </>
  )
}
