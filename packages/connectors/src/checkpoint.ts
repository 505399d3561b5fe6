/** What all targets say and keep alike about checkpoints. */
import { Failure } from '@tide/core/failure'
import type { Checkpoint } from './contract.ts'

/** A checkpoint as a target's table holds it: everything as text. */
export interface CheckpointRow {
  epoch: string
  position: string
  completeUpTo: string
  lanes: string
  consistent: boolean
}

export function rowOf({ epoch, position, completeUpTo, lanes, consistent }: Checkpoint): CheckpointRow {
  return {
    epoch: String(epoch),
    position: JSON.stringify(position),
    completeUpTo,
    lanes: JSON.stringify(lanes),
    consistent,
  }
}

export function checkpointOf(pipeline: string, row: CheckpointRow): Checkpoint {
  return {
    pipeline,
    epoch: Number(row.epoch),
    position: JSON.parse(row.position),
    completeUpTo: row.completeUpTo,
    lanes: JSON.parse(row.lanes),
    consistent: row.consistent,
  }
}

/** Nobody writes under an epoch that is older than the checkpoint's. */
export function overtaken(): Failure {
  return new Failure(
    'structural',
    'Another engine has taken this pipeline over, or its checkpoint was removed from the target.',
    'Continue where it runs now; if it runs nowhere, start again.',
  )
}
