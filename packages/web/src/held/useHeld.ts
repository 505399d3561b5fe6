import type { HeldOverview } from '@tide/core/api/held'
import { useQuery } from '@tanstack/react-query'
import { api } from '../api/client.ts'
import { useLive } from '../api/live.ts'
import { tablesSaid } from '../pipelines/tablesSaid.ts'

const EVERY_MS = 5_000

/** What waits in a pipeline that works in apps; its own sheet shows it. */
export interface WaitingInApp {
  id: string
  name: string
  /** The section of its sheet. */
  to: string
  /** Whose records they are. */
  what: string
  says: string
  held: number
}

export function useWaitingInApps(): WaitingInApp[] {
  const pipelines = useLive(live => live.pipelines) ?? []
  return pipelines.flatMap((pipeline): WaitingInApp[] => {
    const { id, definition, toName, send, twoWay } = pipeline
    const about = { id, name: definition.name, what: tablesSaid(pipeline) }
    if (send?.held)
      return [{ ...about, to: `/pipelines/${id}/refused`, says: `refused by ${toName}`, held: send.held }]
    if (twoWay?.held)
      return [
        { ...about, to: `/pipelines/${id}/undecided`, says: 'for a person to decide', held: twoWay.held },
      ]
    return []
  })
}

/** What is held, by cause: of all pipelines, or of one. */
export function useHeld(pipeline?: string) {
  return useQuery({
    queryKey: ['held', pipeline ?? 'all'],
    queryFn: () => api<HeldOverview>('GET', pipeline ? `/pipelines/${pipeline}/held` : '/held'),
    refetchInterval: EVERY_MS,
  })
}
