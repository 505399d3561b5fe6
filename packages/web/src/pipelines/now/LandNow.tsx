import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { useMutation } from '@tanstack/react-query'
import { gathersSeconds } from '@tide/core/definition/files'
import { api } from '../../api/client.ts'
import { putPipeline } from '../../api/live.ts'
import { count } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'

/** Where changes wait for others, whoever needs them sooner has them land. */
export function LandNow({ pipeline: { id, definition, backlog } }: { pipeline: ReplicationStatus }) {
  const landing = useMutation({
    mutationFn: () => api<ReplicationStatus>('POST', `/pipelines/${id}/land-now`),
    onSuccess: putPipeline,
  })
  const waits = gathersSeconds(definition)
  if (waits === 0 || !backlog) return <ErrorNotice error={landing.error} />
  return (
    <p className="-mt-1 flex items-baseline gap-3 pb-2 text-[13px] text-ink-2">
      <span>
        {count(backlog)} changes are in the journal and wait for more, up to {waits} s.
      </span>
      <TextButton onClick={() => landing.mutate()} disabled={landing.isPending}>
        Land now
      </TextButton>
      <ErrorNotice error={landing.error} />
    </p>
  )
}
