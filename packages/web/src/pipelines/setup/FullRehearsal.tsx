import type { FullRehearsal as Rehearsal } from '@tide/core/api/rehearsal'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { printName } from '@tide/core/records/dataset'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../../api/client.ts'
import { count, plural } from '../../format.ts'
import { Button, TextButton } from '../../parts/Button.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'

const ASK_MS = 500

/** Every row at the source through the whole setup, with nothing written: what would be held, and why. */
export function FullRehearsal({ definition }: { definition: ReplicateDefinition }) {
  const what = canonicalJson({ ...definition, name: '' })
  const [begun, setBegun] = useState<{ id: string; what: string }>()
  const [error, setError] = useState<unknown>()
  const { data, error: lost } = useQuery({
    queryKey: ['rehearsals', begun?.id],
    queryFn: () => api<Rehearsal>('GET', `/rehearsals/${begun!.id}`),
    enabled: begun !== undefined,
    refetchInterval: query => (query.state.data?.state === 'reading' ? ASK_MS : false),
    gcTime: 0,
  })
  const begin = async () => {
    setError(undefined)
    try {
      const { id } = await api<Rehearsal>('POST', '/rehearsals', { definition })
      setBegun({ id, what })
    } catch (failed) {
      setError(failed)
    }
  }
  const reading = data?.state === 'reading'
  return (
    <section aria-label="Rehearsal with all rows" className="mt-3 text-[13px]">
      <p className="flex items-baseline gap-3">
        <span className="font-semibold">Rehearse with all rows</span>
        <span className="min-w-0 flex-1 text-ink-3">reads every row at the source, and writes nothing</span>
        {reading ? (
          <TextButton onClick={() => void api('DELETE', `/rehearsals/${begun!.id}`)}>Stop</TextButton>
        ) : (
          <Button onClick={() => void begin()}>{data ? 'Rehearse again' : 'Rehearse'}</Button>
        )}
      </p>
      <ErrorNotice error={error ?? lost} />
      {data && begun && <Found {...data} stale={begun.what !== what} />}
    </section>
  )
}

function Found({ state, problem, lanes, stale }: Rehearsal & { stale: boolean }) {
  const rows = lanes.reduce((sum, lane) => sum + lane.rows, 0)
  const expected = lanes.reduce((sum, lane) => sum + lane.expected, 0)
  const held = lanes.reduce((sum, lane) => sum + lane.held, 0)
  const said = {
    reading: `${count(rows)} of about ${count(Math.max(rows, expected))} rows read`,
    done: `All ${plural(rows, 'row')} read: ${held === 0 ? 'every one would go in.' : `${plural(held, 'row')} would stop the pipeline.`}`,
    ended: `Stopped after ${plural(rows, 'row')}.`,
    failed: `It failed after ${plural(rows, 'row')}.`,
  }[state]
  return (
    <>
      <p role="status" className={`mt-1 ${state === 'done' && held > 0 ? 'text-buoy' : 'text-ink-2'}`}>
        {said} {stale && 'The setup was changed since.'}
      </p>
      {state === 'reading' && (
        <progress className="mt-1 h-1.5 w-full" value={rows} max={Math.max(rows, expected, 1)} />
      )}
      {problem && <p className="text-buoy">{`${problem.message} ${problem.remedy}`}</p>}
      <table className="mt-1 w-full border-collapse">
        <thead>
          <tr className="border-b border-line-2 text-left text-ink-2">
            {['Table', 'Read', 'In scope', 'Held', 'Cut'].map((title, i) => (
              <th key={title} scope="col" className={`py-1 pr-3 font-normal ${i > 0 ? 'text-right' : ''}`}>
                {title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {lanes.map(lane => (
            <Lane key={`${lane.origin} ${printName(lane.source)}`} {...lane} />
          ))}
        </tbody>
      </table>
    </>
  )
}

function Lane({ source, origin, rows, inScope, held, misfits, cut, shared }: Rehearsal['lanes'][number]) {
  const cuts = cut.reduce((sum, { values }) => sum + values, 0)
  return (
    <>
      <tr className="border-b border-line">
        <td className="py-1 pr-3 font-mono text-[12px]">
          {printName(source)} {origin}
        </td>
        {[rows, inScope, held, cuts].map((figure, i) => (
          <td
            key={i}
            className={`py-1 pr-3 text-right ${i === 2 && figure > 0 ? 'font-semibold text-buoy' : ''}`}
          >
            {count(figure)}
          </td>
        ))}
      </tr>
      {shared && (
        <tr className="border-b border-line">
          <td colSpan={5} className="py-1 pl-4 text-ink-2">
            {shared.all ? '' : 'At least '}
            {plural(shared.rows, 'row')} have a key that is at {shared.example.origin}, too, such as{' '}
            <span className="font-mono text-[12px]">{shared.example.key.join(', ').slice(0, 80)}</span>: the
            origin column keeps them apart.
          </td>
        </tr>
      )}
      {misfits.map(({ column, rows, examples }) => (
        <tr key={column} className="border-b border-line">
          <td colSpan={5} className="py-1 pl-4">
            <b>{column}</b>: {plural(rows, 'row')}
            <ul className="text-ink-2">
              {examples.map(({ key, reason }) => (
                <li key={key.join(' ')}>
                  <span className="font-mono text-[12px]">{key.join(', ').slice(0, 80)}</span>: {reason}
                </li>
              ))}
            </ul>
          </td>
        </tr>
      ))}
    </>
  )
}
