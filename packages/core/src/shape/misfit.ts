import { Failure } from '../failure.ts'
import type { Lane } from '../plan/lane.ts'
import { printName } from '../records/dataset.ts'
import type { Value } from '../records/value.ts'

/** Of a row that does not fit into a column at the target. */
export function noValue(
  { target, identity }: Pick<Lane, 'target' | 'identity'>,
  column: string,
  reason: string,
  key: readonly Value[],
): Failure {
  return new Failure(
    'value',
    `${printName(target)}.${column}: ${reason}, in the row with ${identity.join(', ')} ${key.join(', ').slice(0, 60)}.`,
    'Correct the row at the source and continue, or change how the column is made and start again.',
  )
}
