import type { ConnectionInfo, ConnectorInfo } from '@tide/core/api/connections'
import type { Catalogue } from '@tide/core/api/browse'
import { QueryClient, useQuery } from '@tanstack/react-query'
import { api } from './client.ts'

export const queryClient = new QueryClient({
  defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } },
})

export const useConnectors = () =>
  useQuery({
    queryKey: ['connectors'],
    queryFn: () => api<ConnectorInfo[]>('GET', '/connectors'),
    staleTime: Infinity,
  })

export const useConnections = () =>
  useQuery({ queryKey: ['connections'], queryFn: () => api<ConnectionInfo[]>('GET', '/connections') })

export const useCatalogue = (connection: string) =>
  useQuery({
    queryKey: ['catalogue', connection],
    queryFn: () => api<Catalogue>('GET', `/connections/${connection}/catalogue`),
    enabled: connection !== '',
  })

/** Reads a catalogue anew at its system; what is planned by it is computed again. */
export async function lookAgain(connection: string): Promise<void> {
  const catalogue = await api<Catalogue>('GET', `/connections/${connection}/catalogue?fresh=true`)
  queryClient.setQueryData(['catalogue', connection], catalogue)
  await queryClient.invalidateQueries({ queryKey: ['plan'] })
}

export function refreshConnections(): Promise<void> {
  return queryClient.invalidateQueries({ queryKey: ['connections'] })
}
