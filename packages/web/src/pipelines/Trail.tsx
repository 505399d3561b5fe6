import type { RowChange, RowTrail } from '@tide/core/api/trail'
import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api } from '../api/client.ts'
import { moment, plural } from '../format.ts'
import { Copyable } from '../parts/Copyable.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'

const LOOK_EVERY_MS = 2_000

const OPERATIONS: Record<string, string> = {
  insert: 'Inserted',
  update: 'Updated',
  delete: 'Deleted',
  'into scope': 'Came into the scope',
  'out of scope': 'Left the scope',
}

interface TrailProps {
  pipeline: string
  lane: number
  /** The source's own. */
  rowKey: string[]
}

/** What a row was before, change by change, and what of it was held back. */
export function Trail({ pipeline, lane, rowKey }: TrailProps) {
  const query = new URLSearchParams({ key: JSON.stringify(rowKey) })
  const trail = useQuery({
    queryKey: ['trail', pipeline, lane, rowKey],
    queryFn: () => api<RowTrail>('GET', `/pipelines/${pipeline}/lanes/${lane}/trail?${query}`),
    refetchInterval: LOOK_EVERY_MS,
    gcTime: 0,
  })
  if (!trail.data) return <ErrorNotice error={trail.error} />
  const { kept, changes, cut, held } = trail.data
  return (
    <section className="mt-6" aria-label="What it was before">
      <h2 className="mb-1 text-[14px]">What it was before</h2>
      {!kept && (
        <p className="text-[13px] text-ink-2">
          Changes of this table are not kept.{' '}
          <Link
            className="underline decoration-line-2 underline-offset-2"
            to={`/pipelines/${pipeline}/change`}
          >
            Keep them from now on
          </Link>
          , in the setup’s Rows.
        </p>
      )}
      {kept && changes.length === 0 && (
        <p className="text-[13px] text-ink-2">It has not changed since its changes are kept.</p>
      )}
      {held.map(({ id, heldAt, column, reason, state, closedAt, note }) => (
        <p key={id} className="border-b border-line py-1.5 text-[13px]">
          <b>Held back</b> {moment(heldAt)}:{' '}
          {column && <span className="font-mono text-[12px]">{column}: </span>}
          {reason}.{' '}
          <span className="text-ink-2">
            {state === 'open' ? 'It is held still.' : `${state}${closedAt ? `, ${moment(closedAt)}` : ''}`}
            {note && `: ${note}`}
          </span>
        </p>
      ))}
      <ol>
        {changes.map(change => (
          <Change key={`${change.position} ${change.number}`} change={change} />
        ))}
      </ol>
      {cut && (
        <p className="py-1 text-[12px] text-ink-3">
          The newest {plural(changes.length, 'change')} are shown.
        </p>
      )}
    </section>
  )
}

function Change({ change }: { change: RowChange }) {
  const { operation, committedAt, landedAt, transaction, position, keyBefore, keyAfter, fields } = change
  const moved = keyBefore && keyAfter && keyBefore.join('\n') !== keyAfter.join('\n')
  return (
    <li className="grid grid-cols-[11rem_1fr] gap-x-4 border-b border-line py-1.5 text-[13px]">
      <div>
        <b>{OPERATIONS[operation] ?? operation}</b>
        <p className="text-[12px] text-ink-2">{committedAt && moment(committedAt)}</p>
        {landedAt && <p className="text-[12px] text-ink-3">landed {moment(landedAt)}</p>}
      </div>
      <div className="min-w-0">
        {moved && (
          <p>
            It was {keyBefore.join(', ')}, and became {keyAfter.join(', ')}.
          </p>
        )}
        <table className="w-full table-fixed border-collapse text-[12px]">
          <tbody className="font-mono">
            {fields.map(({ name, before, after, told }) => (
              <tr key={name} className="align-top">
                <th scope="row" className="w-40 truncate py-0.5 pr-2 text-left font-normal text-ink-2">
                  {name}
                </th>
                <td className="py-0.5 break-words">
                  {operation === 'update' && (
                    <>
                      {told ? <Value text={before} /> : <i className="text-ink-3">not told</i>}
                      <span className="px-1.5 text-ink-3">→</span>
                    </>
                  )}
                  <Value text={operation === 'delete' || operation === 'out of scope' ? before : after} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <p className="mt-0.5 text-[12px] text-ink-3">
          transaction {transaction}, at {position && <Copyable text={position} />}
        </p>
      </div>
    </li>
  )
}

function Value({ text }: { text: string | null }) {
  if (text === null) return <i className="text-ink-3">null</i>
  return <>{text.length > 300 ? `${text.slice(0, 300)}…` : text}</>
}
