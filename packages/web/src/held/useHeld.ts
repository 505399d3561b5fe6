import type { HeldOverview } from '@tide/core/api/held'
import { useQuery } from '@tanstack/react-query'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { api } from '../api/client.ts'
import { useLive } from '../api/live.ts'

const EVERY_MS = 5_000

/** Pipelines of which an app has refused records; their own sheets show these. */
export function useRefused(): PipelineStatus[] {
  const pipelines = useLive(live => live.pipelines) ?? []
  return pipelines.filter(({ send }) => (send?.held ?? 0) > 0)
}

/** What is held, by cause: of all pipelines, or of one. */
export function useHeld(pipeline?: string) {
  return useQuery({
    queryKey: ['held', pipeline ?? 'all'],
    queryFn: () => api<HeldOverview>('GET', pipeline ? `/pipelines/${pipeline}/held` : '/held'),
    refetchInterval: EVERY_MS,
  })
}
