import type { HeldGroup } from '@tide/core/api/held'
import { printName } from '@tide/core/records/dataset'
import { Link } from 'react-router'
import { useLive } from '../api/live.ts'
import { ago, count, moment } from '../format.ts'
import { DataTable, type Column } from '../parts/DataTable.tsx'
import { Name } from '../parts/Name.tsx'
import { groupPath } from './groupPath.ts'

/** One line for each cause. */
export function Causes({ groups }: { groups: readonly HeldGroup[] }) {
  const now = useLive(live => live.now)
  const columns: Column<HeldGroup>[] = [
    {
      title: 'Table',
      cell: group => <Name>{printName(group.table)}</Name>,
      by: group => printName(group.table),
    },
    ...(groups.some(({ origin }) => origin !== '')
      ? [
          {
            title: 'Origin',
            cell: (group: HeldGroup) => group.origin,
            by: (group: HeldGroup) => group.origin,
          },
        ]
      : []),
    {
      title: 'Why',
      cell: group => (
        <Link
          className="block max-w-xl whitespace-normal underline decoration-line-2 underline-offset-2"
          to={groupPath(group)}
        >
          {group.column !== null && `${group.column}: `}
          {group.reason}
        </Link>
      ),
      by: group => group.reason,
    },
    { title: 'Rows', cell: group => count(group.rows), by: group => group.rows, align: 'right' },
    {
      title: 'Last',
      cell: group => <span title={moment(group.newest)}>{ago(group.newest, now)}</span>,
      by: group => group.newest,
      align: 'right',
    },
  ]
  return <DataTable label="Causes" columns={columns} rows={[...groups]} rowKey={groupPath} />
}
