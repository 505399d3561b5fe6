/** The target of a pipeline, whatever its shape. */
import type { Session } from '@tide/connectors/contract/session'
import type { TargetSide } from '@tide/connectors/contract/target'
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'

export function targetOf({ target }: Session): TargetSide {
  if (target) return target
  throw new Failure(
    'structural',
    'The target’s connection cannot be written to.',
    'Choose another in the setup.',
  )
}

/** Takes the pipeline over at its target under this epoch; undefined: nothing of it is there. */
export async function takeOver(
  target: TargetSide,
  { id, freshFrom }: Pick<PipelineRecord, 'id' | 'freshFrom'>,
  epoch: number,
): Promise<Checkpoint | undefined> {
  const found = await target.takeCheckpoint(id, epoch, freshFrom)
  if (!found || found.epoch <= epoch) return found
  throw new Failure(
    'structural',
    'The target’s checkpoint was written by a later engine.',
    'Continue where that engine runs.',
  )
}
