/** What a column rule can do, as it is chosen, and what each begins with. */
import type { ColumnDeed } from '@tide/core/shape/column-rule'

export interface ColumnChoice {
  title: string
  begin: ColumnDeed
}

export const COLUMN_DEEDS: readonly ColumnChoice[] = [
  { title: 'leave out', begin: { leave: 'out' } },
  { title: 'mask by a keyed hash', begin: { mask: 'hash' } },
  { title: 'mask but the ends', begin: { mask: 'ends', first: 1, last: 0 } },
  { title: 'mask by a constant', begin: { mask: 'constant', by: '—' } },
  { title: 'make null', begin: { mask: 'nothing' } },
  { title: 'take as another type', begin: { become: 'text' } },
  { title: 'limit the size', begin: { limit: 10_000 } },
  { title: 'compute', begin: { compute: '""' } },
  { title: 'add a computed column', begin: { add: 'computed', compute: '""' } },
  { title: 'add a constant', begin: { add: 'site', constant: '' } },
  { title: 'add the operation', begin: { add: 'operation', metadata: 'operation' } },
  { title: 'add the time of commit', begin: { add: 'committed_at', metadata: 'committed at' } },
  { title: 'add the time of landing', begin: { add: 'landed_at', metadata: 'landed at' } },
  { title: 'add the log position', begin: { add: 'position', metadata: 'position' } },
]

export function columnChoiceOf(deed: ColumnDeed): ColumnChoice {
  return COLUMN_DEEDS.find(({ begin }) => kindOf(begin) === kindOf(deed))!
}

function kindOf(deed: ColumnDeed): string {
  if ('leave' in deed) return 'leave'
  if ('mask' in deed) return deed.mask
  if ('become' in deed) return 'become'
  if ('limit' in deed) return 'limit'
  if ('compute' in deed) return 'add' in deed ? 'add computed' : 'compute'
  return 'metadata' in deed ? deed.metadata : 'add'
}
