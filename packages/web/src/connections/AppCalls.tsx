import { useQuery } from '@tanstack/react-query'
import { api } from '../api/client.ts'
import { clock } from '../format.ts'

interface AppCall {
  at: string
  method: string
  path: string
  status: number | null
  milliseconds: number
}

const SHOWN = 100
const EVERY_MS = 5_000

/** What was asked of an app of late. */
export function AppCalls({ connection }: { connection: string }) {
  const calls = useQuery({
    queryKey: ['calls', connection],
    queryFn: () => api<AppCall[]>('GET', `/connections/${connection}/calls`),
    refetchInterval: EVERY_MS,
  })
  if (!calls.data || calls.data.length === 0) return null
  return (
    <details className="mt-2 text-[13px]">
      <summary className="text-link">Calls of late</summary>
      <table className="mt-1 w-full max-w-2xl border-collapse font-mono text-[12px]" aria-label="Calls">
        <tbody>
          {calls.data.slice(0, SHOWN).map(({ at, method, path, status, milliseconds }, i) => (
            <tr key={`${at} ${i}`} className="border-b border-line">
              <td className="py-0.5 pr-3 text-ink-2">{clock(at)}</td>
              <td className="pr-3">
                {method} {path}
              </td>
              <td className={`pr-3 ${status === null || status >= 400 ? 'font-semibold text-buoy' : ''}`}>
                {status ?? 'no answer'}
              </td>
              <td className="text-right text-ink-2">{Math.round(milliseconds)} ms</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  )
}
