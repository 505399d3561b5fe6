import type { TwoWayForeseen, TwoWayLook } from '@tide/core/api/two-way'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import { hinders } from '@tide/core/plan/note'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api } from '../../api/client.ts'
import { useSettled } from '../../pipelines/setup/useSettled.ts'

/** What both sides have and what stands in the way, recomputed at every edit; then what the first pass would do. */
export function useForeseen(definition: TwoWayDefinition, pipeline: string | undefined) {
  const settled = useSettled(definition)
  // A name changes nothing of it.
  const rest = { ...settled, name: '' }
  const asked = { definition: settled, ...(pipeline ? { pipeline } : {}) }
  const look = useQuery({
    queryKey: ['two-way look', pipeline, settled],
    queryFn: ({ signal }) => api<TwoWayLook>('POST', '/two-way/look', asked, signal),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const standing = look.data?.notes.some(note => hinders(note) && note.section !== 'name')
  const can = look.data !== undefined && !look.isPlaceholderData && !standing
  const foreseen = useQuery({
    queryKey: ['two-way foresee', pipeline, rest],
    queryFn: ({ signal }) => api<TwoWayForeseen>('POST', '/two-way/foresee', asked, signal),
    enabled: can,
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const ready = settled === definition && !look.isPlaceholderData
  return { look, foreseen, ready }
}
