import type { SaidByHand as Said } from '@tide/core/api/send'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../api/client.ts'
import { moment } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { Name } from '../parts/Name.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import { send } from './deeds.ts'
import { keySaid } from './said.ts'

/** Rows that people have corrected or left out, each until it says something else at the source. */
export function SaidByHand({ pipeline, waits, upTo }: { pipeline: string; waits: boolean; upTo: string }) {
  const [error, setError] = useState<unknown>()
  const said = useQuery({
    queryKey: ['sent', pipeline, 'by hand', upTo],
    queryFn: () => api<Said[]>('GET', `/pipelines/${pipeline}/by-hand`),
    placeholderData: before => before,
  })
  const rows = said.data ?? []
  const columns: Column<Said>[] = [
    { title: 'Row key', cell: one => <Name>{keySaid(one.key)}</Name>, by: one => keySaid(one.key) },
    {
      title: 'What',
      cell: one =>
        one.values === null ? (
          <>left out: {one.note}</>
        ) : (
          <>
            corrected{' '}
            <span className="font-mono text-[12px] text-ink-2">
              {Object.entries(one.values)
                .map(([field, value]) => `${field}: ${value ?? 'nothing'}`)
                .join(', ')}
            </span>
          </>
        ),
      by: one => (one.values === null ? 'left out' : 'corrected'),
    },
    { title: 'Said', cell: one => moment(one.at), by: one => one.at },
    {
      title: '',
      cell: one => (
        <TextButton
          disabled={!waits}
          aria-label={`Take back what was said of ${keySaid(one.key)}`}
          onClick={() => void send(pipeline, { deed: 'again', keys: [one.key] }).catch(setError)}
        >
          Take it as it is
        </TextButton>
      ),
    },
  ]
  return (
    <>
      <ErrorNotice error={said.error ?? error} />
      {rows.length > 0 && (
        <section className="mt-5" aria-label="Said by hand">
          <h2 className="mb-1 text-[14px]">Said by hand</h2>
          <p className="mb-1 text-[13px] text-ink-2">
            Each holds until its row says something else at the source.
          </p>
          <DataTable
            label="Said by hand"
            columns={columns}
            rows={rows}
            rowKey={one => JSON.stringify(one.key)}
          />
        </section>
      )}
    </>
  )
}
