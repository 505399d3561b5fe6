import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import type { Services } from './services.ts'

export async function pipelineRecord({ store }: Services, id: string): Promise<PipelineRecord> {
  const found = await store.pipelines.get(id)
  if (found) return found
  throw new Failure('refused', `There is no pipeline ${id}.`, 'Look at the list of pipelines again.')
}

/** What is done to pipelines as a whole is not done to one origin of several. */
export function refuseOrigin({ of, origin, definition }: PipelineRecord): void {
  if (of === null) return
  throw new Failure(
    'refused',
    `${origin} is an origin of “${definition.name}”, which is set up as a whole.`,
    `Do this to the pipeline ${of}.`,
  )
}
