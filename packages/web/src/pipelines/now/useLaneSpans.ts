import type { LaneSpan } from '@tide/core/api/lane-spans'
import type { LaneStatus } from '@tide/core/api/pipelines'
import { printName } from '@tide/core/records/dataset'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api } from '../../api/client.ts'

/** What has landed in the lanes in the last so many seconds; null: it is not asked for. */
export function useLaneSpans(pipeline: string, seconds: number | null) {
  const spans = useQuery({
    queryKey: ['lane spans', pipeline, seconds],
    queryFn: () => api<LaneSpan[]>('GET', `/pipelines/${pipeline}/lane-spans?seconds=${seconds}`),
    enabled: seconds !== null,
    refetchInterval: 2_000,
    placeholderData: keepPreviousData,
  })
  const byLane = new Map(spans.data?.map(span => [`${span.origin} ${span.table}`, span]))
  return {
    of: ({ origin = '', source }: LaneStatus) => byLane.get(`${origin} ${printName(source)}`),
    error: spans.error,
  }
}
