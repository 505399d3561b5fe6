/** Every id is looked at where it comes in. */
import { ID_PATTERN, isId } from '@tide/core/definition/id'
import { Failure } from '@tide/core/failure'

export const idSchema = { type: 'string', pattern: ID_PATTERN }

/** Throws for what can be no id. */
export function refuseStrangeId(id: string): void {
  if (isId(id)) return
  throw new Failure('refused', `“${id.slice(0, 60)}” is no id.`, 'Take one from the lists.')
}
