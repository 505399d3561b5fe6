import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import type { Services } from './services.ts'

export async function pipelineRecord({ store }: Services, id: string): Promise<PipelineRecord> {
  const found = await store.pipelines.get(id)
  if (found) return found
  throw new Failure('refused', `There is no pipeline ${id}.`, 'Look at the list of pipelines again.')
}
