import type { RehearsedRows } from '@tide/core/api/rehearsal'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { datasetId, printName, type DatasetName } from '@tide/core/records/dataset'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../../api/client.ts'
import { count } from '../../format.ts'
import { InlineSelect } from '../../parts/Field.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'

/** The first rows of one of the chosen tables as they are and as they would land; nothing is written. */
export function Rehearsed({
  definition,
  tables,
}: {
  definition: ReplicateDefinition
  tables: readonly DatasetName[]
}) {
  const [chosen, setChosen] = useState('')
  const table = tables.find(one => datasetId(one) === chosen) ?? tables[0]
  const answer = useQuery({
    queryKey: ['plan', 'rehearsal', definition, table],
    queryFn: ({ signal }) => api<RehearsedRows>('POST', '/rehearsal', { definition, table }, signal),
    enabled: table !== undefined,
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    staleTime: 0,
  })
  if (!table)
    return <p className="text-[13px] text-ink-2">Choose tables to see what becomes of their rows.</p>
  const { data } = answer
  return (
    <section aria-label="Rehearsed rows" className="mt-3">
      <p className="flex items-baseline gap-2 text-[13px]">
        <span className="font-semibold">As it would land:</span>
        <InlineSelect
          label="Table to rehearse"
          value={datasetId(table)}
          options={tables.map(one => ({ value: datasetId(one), title: printName(one) }))}
          onChange={event => setChosen(event.target.value)}
        />
        <span role="status" className="text-ink-2">
          {data && inScopeSaid(data)}
        </span>
      </p>
      <ErrorNotice error={answer.error} />
      {data && !answer.error && <Rows {...data} />}
    </section>
  )
}

function inScopeSaid({ inScope, looked, all }: RehearsedRows): string {
  if (looked === 0) return 'no rows'
  const of = all ? `all ${count(looked)} rows` : `the first ${count(looked)} rows`
  return inScope === looked ? `${of} take part` : `${count(inScope)} of ${of} take part`
}

function Rows({ columns, rows }: RehearsedRows) {
  return (
    <div className="mt-1 overflow-x-auto" tabIndex={0} role="region" aria-label="Rows at both sides">
      <table className="border-collapse font-mono text-[12px]">
        <thead>
          <tr className="border-b border-line-2 text-left">
            {columns.map(({ name, source, taken }) => (
              <th key={name} scope="col" className="py-1 pr-4 align-bottom font-normal whitespace-nowrap">
                <span className="block text-ink-3">{source === name ? '' : (source ?? 'added')}</span>
                <span className={`font-semibold ${taken ? '' : 'text-link'}`}>{name}</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map(({ source, target }, n) => (
            <tr key={n} className={`border-b border-line ${target ? '' : 'text-ink-3 line-through'}`}>
              {columns.map(({ name, taken }, i) => (
                <td key={name} className="max-w-56 py-1 pr-4 align-bottom">
                  {target && !taken && source[i] !== null && (
                    <span className="block overflow-hidden text-ellipsis whitespace-nowrap text-ink-3">
                      {source[i]}
                    </span>
                  )}
                  <Value text={target ? target[i]! : source[i]!} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

function Value({ text }: { text: string | null | { misfit: string } }) {
  if (typeof text === 'object' && text !== null)
    return <span className="text-buoy">no value: {text.misfit}</span>
  if (text === null) return <i className="text-ink-3">null</i>
  return (
    <span className="block overflow-hidden text-ellipsis whitespace-nowrap" title={text.slice(0, 2000)}>
      {text.slice(0, 200)}
    </span>
  )
}
