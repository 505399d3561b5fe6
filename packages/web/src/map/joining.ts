/** What can be begun between two systems that somebody joins on the map. */
import type { ConnectorInfo } from '@tide/core/api/connections'
import type { Definition } from '@tide/core/definition/definition'

type Kind = Pick<ConnectorInfo, 'band' | 'roles'>

export interface Way {
  says: string
  shape: Definition['shape']
}

/** None: nothing goes that way. */
export function waysBetween(from: Kind, to: Kind): Way[] {
  const isPlace = ({ band }: Kind) => band === 'apps' || band === 'databases'
  const ways: Way[] = []
  if (from.roles.includes('source') && to.roles.includes('target') && to.band !== 'apps')
    ways.push({ says: 'Keep tables in sync', shape: 'replicate' })
  if ((from.band === 'databases' || from.band === 'warehouses') && to.band === 'apps')
    ways.push({ says: 'Send records into it', shape: 'send' })
  if (isPlace(from) && isPlace(to)) ways.push({ says: 'Keep two places in step', shape: 'two-way' })
  return ways
}

/** The setup that begins so. */
export function setupPath(shape: Definition['shape'], from: string, to?: string): string {
  const search = new URLSearchParams({ from })
  if (to !== undefined) search.set('to', to)
  if (shape !== 'replicate') search.set('shape', shape)
  return `/pipelines/new?${search}`
}
