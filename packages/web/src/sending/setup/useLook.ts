import type { SendForeseen } from '@tide/core/api/send'
import type { SendLook } from '@tide/core/api/send-look'
import type { SendDefinition } from '@tide/core/definition/send'
import { hinders } from '@tide/core/plan/note'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api } from '../../api/client.ts'
import { useSettled } from '../../pipelines/setup/useSettled.ts'

/** What both sides have and what stands in the way, recomputed at every edit; then what the first run would do. */
export function useLook(definition: SendDefinition, pipeline: string | undefined) {
  const settled = useSettled(definition)
  const asked = { definition: settled, ...(pipeline ? { pipeline } : {}) }
  const look = useQuery({
    queryKey: ['send look', pipeline, settled],
    queryFn: ({ signal }) => api<SendLook>('POST', '/sends/look', asked, signal),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const ready = look.data !== undefined && !look.isPlaceholderData && !look.data.notes.some(hinders)
  const foreseen = useQuery({
    queryKey: ['send foresee', pipeline, settled],
    queryFn: ({ signal }) => api<SendForeseen>('POST', '/sends/foresee', asked, signal),
    enabled: ready,
    gcTime: 10_000,
  })
  const isCurrent = settled === definition && !look.isPlaceholderData
  return { look, foreseen, ready: isCurrent }
}
