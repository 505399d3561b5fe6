import type { PlanAnswer } from '@tide/core/api/plans'
import type { Definition } from '@tide/core/definition/definition'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api } from '../api/client.ts'

/** The plan of a definition, recomputed at every edit; the former one stands until the new one is there. */
export function usePlan(definition: Definition, pipeline: string | undefined) {
  return useQuery({
    queryKey: ['plan', pipeline, definition],
    queryFn: () => api<PlanAnswer>('POST', '/plan', { pipeline, definition }),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    staleTime: 0,
  })
}
