import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { TwoWayDeed } from '@tide/core/api/two-way'
import { api } from '../api/client.ts'
import { putPipeline } from '../api/live.ts'
import { queryClient } from '../api/queries.ts'

/** Asks for something to be done with pairs; what is shown of them is read again. */
export async function askTwoWay(pipeline: string, deed: TwoWayDeed): Promise<void> {
  const { status } = await api<{ status: PipelineStatus }>('POST', `/pipelines/${pipeline}/two-way`, deed)
  putPipeline(status)
  await queryClient.invalidateQueries({ queryKey: ['two-way', pipeline] })
}
