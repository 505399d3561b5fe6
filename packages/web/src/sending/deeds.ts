import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { SendDeed } from '@tide/core/api/send'
import { api } from '../api/client.ts'
import { putPipeline } from '../api/live.ts'
import { queryClient } from '../api/queries.ts'

/** Asks for a run; what is shown of what was sent is read again. */
export async function send(pipeline: string, deed: SendDeed): Promise<void> {
  const { status } = await api<{ status: PipelineStatus }>('POST', `/pipelines/${pipeline}/send`, deed)
  putPipeline(status)
  await queryClient.invalidateQueries({ queryKey: ['sent', pipeline] })
}
