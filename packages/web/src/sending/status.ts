import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { SendDefinition } from '@tide/core/definition/send'

/** Of a pipeline that sends. */
export type SendingStatus = PipelineStatus & { definition: SendDefinition }

export function isSending(pipeline: PipelineStatus): pipeline is SendingStatus {
  return pipeline.definition.shape === 'send'
}
