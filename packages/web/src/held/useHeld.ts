import type { HeldOverview } from '@tide/core/api/held'
import { useQuery } from '@tanstack/react-query'
import { api } from '../api/client.ts'

const EVERY_MS = 5_000

/** What is held, by cause: of all pipelines, or of one. */
export function useHeld(pipeline?: string) {
  return useQuery({
    queryKey: ['held', pipeline ?? 'all'],
    queryFn: () => api<HeldOverview>('GET', pipeline ? `/pipelines/${pipeline}/held` : '/held'),
    refetchInterval: EVERY_MS,
  })
}
