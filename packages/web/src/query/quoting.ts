import type { Quoting } from '@tide/core/definition/query-parameters'
import { useConnections, useConnectors } from '../api/queries.ts'

/** How the SQL of a connection writes texts. */
export function useQuoting(connection: string): Quoting {
  const kind = useConnections().data?.find(({ id }) => id === connection)?.kind
  return useConnectors().data?.find(one => one.kind === kind)?.quoting ?? 'plain'
}
