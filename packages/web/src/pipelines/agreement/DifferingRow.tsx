import type { RowPair } from '@tide/core/api/rows'
import { useQuery } from '@tanstack/react-query'
import { api } from '../../api/client.ts'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { RowSides } from '../RowSides.tsx'

/** A row that a verification has found to differ, as it stands now. */
export function DifferingRow({ path, fromName, toName }: { path: string; fromName: string; toName: string }) {
  const pair = useQuery({
    queryKey: ['differing row', path],
    queryFn: () => api<RowPair>('GET', path),
    refetchInterval: 2_000,
    gcTime: 0,
  })
  return (
    <div className="mb-4 border-l-3 border-line-2 pl-3">
      <p className="text-[12px] text-ink-3">As it stands now:</p>
      <ErrorNotice error={pair.error} />
      {pair.data && <RowSides pair={pair.data} fromName={fromName} toName={toName} />}
    </div>
  )
}
