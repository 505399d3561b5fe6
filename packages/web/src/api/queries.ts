import type { ConnectionInfo, ConnectorInfo } from '@tide/core/api/connections'
import type { VersionAnswer } from '@tide/core/api/files'
import type { Catalogue } from '@tide/core/api/browse'
import type { Definition } from '@tide/core/definition/definition'
import { originsOf } from '@tide/core/definition/origins'
import { tablesOfAll } from '@tide/core/plan/origins'
import type { Dataset } from '@tide/core/records/dataset'
import { QueryClient, useQueries, useQuery, type UseQueryResult } from '@tanstack/react-query'
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

/** `newest`: another text when there may be another one. */
export const useVersions = (pipeline: string, newest: string) =>
  useQuery({
    queryKey: ['versions', pipeline, newest],
    queryFn: () => api<VersionAnswer[]>('GET', `/pipelines/${pipeline}/versions`),
    enabled: pipeline !== '',
  })

const catalogueQuery = (connection: string) => ({
  queryKey: ['catalogue', connection],
  queryFn: () => api<Catalogue>('GET', `/connections/${connection}/catalogue`),
  enabled: connection !== '',
})

export const useCatalogue = (connection: string) => useQuery(catalogueQuery(connection))

/** The tables of all of a pipeline's sources, each once; undefined until all are read. */
export function useSourceTables(definition: Pick<Definition, 'from'>) {
  const chosen = originsOf(definition).filter(({ connection }) => connection !== '')
  return useQueries({
    queries: chosen.map(({ connection }) => catalogueQuery(connection)),
    combine: togetherRead,
  })
}

/** Outside of the component: what it returns stays the same as long as the answers do. */
function togetherRead(read: UseQueryResult<Catalogue>[]): {
  datasets: readonly Dataset[] | undefined
  error: unknown
  isPending: boolean
} {
  const catalogues = read.flatMap(({ data }) => data ?? [])
  return {
    datasets:
      read.length > 0 && catalogues.length === read.length
        ? tablesOfAll(catalogues.map(({ datasets }) => datasets))
        : undefined,
    error: read.find(({ error }) => error)?.error,
    isPending: read.some(({ isPending }) => isPending),
  }
}

/** Reads catalogues anew at their systems; what is planned by them is computed again. */
export async function lookAgain(connections: readonly string[]): Promise<void> {
  for (const connection of connections) {
    const catalogue = await api<Catalogue>('GET', `/connections/${connection}/catalogue?fresh=true`)
    queryClient.setQueryData(['catalogue', connection], catalogue)
  }
  await queryClient.invalidateQueries({ queryKey: ['plan'] })
}

/** What cannot be read is said where it is read. */
export function refreshCatalogues(): Promise<void> {
  return queryClient.invalidateQueries({ queryKey: ['catalogue'] })
}

export function refreshConnections(): Promise<void> {
  return queryClient.invalidateQueries({ queryKey: ['connections'] })
}
