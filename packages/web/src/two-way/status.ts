import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'

/** Of a pipeline that keeps two places in step. */
export type TwoWayPipeline = PipelineStatus & { definition: TwoWayDefinition }

export function isTwoWay(pipeline: PipelineStatus): pipeline is TwoWayPipeline {
  return pipeline.definition.shape === 'two-way'
}
