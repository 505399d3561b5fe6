import type { PlanAnswer } from '@tide/core/api/plans'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useRef } from 'react'
import { api } from '../api/client.ts'

/**
 * The plan of a definition, recomputed at every edit; the former one stands until the new one is there. `begun`: its tables
 * were made not long ago, maybe after the target was last looked at.
 */
export function usePlan(definition: ReplicateDefinition, pipeline: string | undefined, begun: boolean) {
  const fresh = useRef(begun)
  const plan = useQuery({
    queryKey: ['plan', pipeline, definition],
    queryFn: ({ signal }) => {
      const asked = { pipeline, definition, fresh: fresh.current }
      fresh.current = false
      return api<PlanAnswer>('POST', '/plan', asked, signal)
    },
    placeholderData: keepPreviousData,
    gcTime: 10_000,
    staleTime: 0,
  })
  /** Looks at both systems anew. */
  const lookAgain = () => {
    fresh.current = true
    void plan.refetch()
  }
  return { ...plan, lookAgain }
}
