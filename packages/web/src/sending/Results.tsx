import type { SendResult } from '@tide/core/api/send'
import { moment } from '../format.ts'
import { Name } from '../parts/Name.tsx'
import { keySaid } from './said.ts'

const DONE = { create: 'created', change: 'changed', remove: 'removed', 'leave out': 'left out' }

/** What was sent of each record, and what the app said to it. */
export function Results({ results, label }: { results: readonly SendResult[]; label: string }) {
  return (
    <table className="w-full border-collapse text-[13px]" aria-label={label}>
      <thead>
        <tr className="border-b border-line-2 text-left text-[12px] text-ink-2">
          <th scope="col" className="w-44 py-1.5 font-semibold">
            When
          </th>
          <th scope="col" className="w-24 py-1.5 font-semibold">
            What
          </th>
          <th scope="col" className="w-44 py-1.5 font-semibold">
            Row key
          </th>
          <th scope="col" className="w-28 py-1.5 font-semibold">
            In the app
          </th>
          <th scope="col" className="py-1.5 font-semibold">
            Fields
          </th>
        </tr>
      </thead>
      <tbody>
        {results.map(({ at, op, key, id, was, values, refused, note }, i) => (
          <tr key={`${at} ${keySaid(key)} ${i}`} className="border-b border-line align-top">
            <td className="py-1.5 whitespace-nowrap text-ink-2">{moment(at)}</td>
            <td className={`py-1.5 ${refused ? 'font-semibold text-buoy' : ''}`}>
              {refused ? 'refused' : DONE[op]}
            </td>
            <td className="py-1.5 pr-3">
              <Name>{keySaid(key)}</Name>
            </td>
            <td className="py-1.5 pr-3 font-mono text-[12px]">{id ?? '–'}</td>
            <td className="py-1.5 break-words">
              {refused ? (
                <>
                  {refused.field && <span className="font-mono text-[12px]">{refused.field}: </span>}
                  {refused.reason}
                </>
              ) : (
                <span className="font-mono text-[12px] text-ink-2">
                  {note}
                  {Object.entries(op === 'remove' ? {} : (values ?? {}))
                    .map(([field, value]) =>
                      was && field in was
                        ? `${field}: ${was[field] ?? 'nothing'} → ${value ?? 'nothing'}`
                        : `${field}: ${value ?? 'nothing'}`,
                    )
                    .join(', ')}
                </span>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
