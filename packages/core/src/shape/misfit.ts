import { Failure } from '../failure.ts'
import type { Lane } from '../plan/lane.ts'
import { printName } from '../records/dataset.ts'
import type { Value } from '../records/value.ts'

/** A row's key as it may be told: what is masked or left out at the target is not said. */
export function toldKey(
  { identity, writes }: Pick<Lane, 'identity' | 'writes'>,
  key: readonly Value[],
): string[] {
  const isTold = (name: string | undefined) =>
    writes.some(({ value }) => 'column' in value && value.column === name && value.from !== 'masked')
  return key.map((part, i) => (isTold(identity[i]) ? (part ?? '') : '…'))
}

/** Of a row that does not fit into a column at the target. */
export function noValue(
  { target, identity, writes }: Pick<Lane, 'target' | 'identity' | 'writes'>,
  column: string,
  reason: string,
  key: readonly Value[],
): Failure {
  return new Failure(
    'value',
    `${printName(target)}.${column}: ${reason}, in the row with ${identity.join(', ')} ${toldKey({ identity, writes }, key).join(', ').slice(0, 60)}.`,
    'Correct the row at the source and continue, or change how the column is made and start again.',
  )
}
