import type { PipelineStatus } from '@tide/core/api/pipelines'
import { useMutation } from '@tanstack/react-query'
import { api } from '../api/client.ts'
import { putPipeline, useLive } from '../api/live.ts'
import { clock } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'

const MINUTES = 60

/** Details are many, so they are told for a while only. */
export function DetailsSwitch({ pipeline }: { pipeline: PipelineStatus }) {
  const now = useLive(live => live.now)
  const tell = useMutation({
    mutationFn: (minutes: number) =>
      api<PipelineStatus>('PUT', `/pipelines/${pipeline.id}/details`, { minutes }),
    onSuccess: putPipeline,
  })
  const { detailedUntil } = pipeline
  const told = detailedUntil !== null && Date.parse(detailedUntil) > now
  return (
    <span className="flex items-center gap-2 whitespace-nowrap">
      <ErrorNotice error={tell.error} />
      {told && <span className="text-ink-2">details until {clock(detailedUntil)}</span>}
      <TextButton
        disabled={tell.isPending}
        title="Every landing, every range copied, and what is needed no more; kept for a day"
        onClick={() => tell.mutate(told ? 0 : MINUTES)}
      >
        {told ? 'Tell no details' : 'Tell details for an hour'}
      </TextButton>
    </span>
  )
}
