import type { RunAnswer } from '@tide/core/api/runs'
import type { RunKind } from '@tide/core/definition/run'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api } from '../api/client.ts'

export interface RunsAsked {
  pipeline?: string
  kind?: RunKind
  days?: number
}

export function runsParams(asked: RunsAsked): URLSearchParams {
  return new URLSearchParams(Object.entries(asked).map(([name, value]) => [name, String(value)]))
}

/** The newest first; what goes on is looked at again. */
export const useRuns = (asked: RunsAsked) =>
  useQuery({
    queryKey: ['runs', asked],
    queryFn: () => api<RunAnswer[]>('GET', `/runs?${runsParams(asked)}`),
    refetchInterval: 5_000,
    placeholderData: keepPreviousData,
  })
