import type { PositionsAnswer } from '@tide/core/api/rewind'
import { useQuery } from '@tanstack/react-query'
import { api } from '../../api/client.ts'

export const positionsKey = (id: string) => ['positions', id]

export function usePositions(id: string) {
  return useQuery({
    queryKey: positionsKey(id),
    queryFn: () => api<PositionsAnswer>('GET', `/pipelines/${id}/positions`),
    staleTime: 0,
  })
}
