import type { PairSeen } from '@tide/core/api/two-way'
import { useQuery } from '@tanstack/react-query'
import { api } from '../api/client.ts'
import { TextButton } from '../parts/Button.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'
import type { Called } from './said.ts'

interface LinkedPairsProps {
  pipeline: string
  pair: string
  /** Changes whenever something may have been written. */
  at: string | undefined
  called: Called
  open: (pair: PairSeen) => void
}

/** Pairs of other lanes that link to this one, such as what was said of it on either side. */
export function LinkedPairs({ pipeline, pair, at, called, open }: LinkedPairsProps) {
  const linked = useQuery({
    queryKey: ['two-way', pipeline, 'linked', pair, at],
    queryFn: () => api<PairSeen[]>('GET', `/pipelines/${pipeline}/pairs/${pair}/linked`),
    placeholderData: before => before,
  })
  const lanes = [...new Set((linked.data ?? []).map(({ lane }) => lane))]
  return (
    <>
      <ErrorNotice error={linked.error} />
      {lanes.map(lane => (
        <section key={lane} className="mt-3 text-[13px]" aria-label={`Linked to it by ${lane}`}>
          <h3 className="text-[13px] font-semibold">{lane}</h3>
          <ul>
            {linked.data!.map(
              one =>
                one.lane === lane && (
                  <li key={one.id} className="flex items-baseline gap-3 border-b border-line py-1">
                    <span className="min-w-0 flex-1 break-words whitespace-pre-line">
                      {one.label ?? one.a?.id ?? one.b?.id}
                    </span>
                    <span className="text-ink-2">
                      {one.held.length > 0 ? (
                        <b className="text-buoy">held</b>
                      ) : one.a && one.b ? (
                        `on both sides, first in ${called[one.origin]}`
                      ) : (
                        `in ${called[one.a ? 'a' : 'b']} alone`
                      )}
                    </span>
                    <TextButton aria-label={`Show ${one.a?.id ?? one.b?.id}`} onClick={() => open(one)}>
                      Show
                    </TextButton>
                  </li>
                ),
            )}
          </ul>
        </section>
      ))}
    </>
  )
}
