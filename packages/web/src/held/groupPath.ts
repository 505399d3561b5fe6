import type { HeldGroup } from '@tide/core/api/held'
import { datasetId } from '@tide/core/records/dataset'

/** Where the records of one cause are shown. */
export function groupPath({ run, table, cause }: Pick<HeldGroup, 'run' | 'table' | 'cause'>): string {
  return `/held/${run}?${new URLSearchParams({ table: datasetId(table), cause })}`
}
