/** Ids of connections, pipelines and tickets. They become parts of paths and of names at systems, so nothing else is let in. */
import { Failure } from '@tide/core/failure'

const PATTERN = '^[a-z0-9]{1,40}$'
const ID = new RegExp(PATTERN)

export const idSchema = { type: 'string', pattern: PATTERN }

/** Throws for what can be no id. */
export function refuseStrangeId(id: string): void {
  if (ID.test(id)) return
  throw new Failure('refused', `“${id.slice(0, 60)}” is no id.`, 'Take one from the lists.')
}
