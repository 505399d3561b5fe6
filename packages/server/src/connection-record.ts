import { Failure } from '@tide/core/failure'
import type { ConnectionRecord } from '@tide/store/connections'
import type { Store } from '@tide/store/store'

/** Throws a Failure for one that there is not. */
export async function connectionRecord(
  { connections }: Pick<Store, 'connections'>,
  id: string,
): Promise<ConnectionRecord> {
  const found = await connections.get(id)
  if (found) return found
  throw new Failure('refused', `There is no connection ${id}.`, 'Look at the list of connections again.')
}
