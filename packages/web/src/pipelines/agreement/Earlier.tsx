import type { VerificationAnswer } from '@tide/core/api/verification'
import { agrees, differing } from '@tide/core/definition/verification'
import { moment, plural } from '../../format.ts'
import { DataTable, type Column } from '../../parts/DataTable.tsx'
import { isGoing } from './useVerifications.ts'

/** Verifications of before, each in a line. */
export function Earlier({ verifications }: { verifications: readonly VerificationAnswer[] }) {
  const over = verifications.filter(one => !isGoing(one))
  if (over.length < 2) return null
  const columns: Column<VerificationAnswer>[] = [
    { title: 'Asked for', cell: one => moment(one.askedAt), by: one => one.askedAt },
    {
      title: 'What was compared',
      cell: one => (one.level === 'rows' ? 'rows' : 'counts'),
      by: one => one.level,
    },
    { title: 'Lanes', cell: one => plural(one.lanes.length, 'lane'), by: one => one.lanes.length },
    { title: 'What was found', cell: outcomeSaid, by: outcomeSaid },
  ]
  return (
    <>
      <h2 className="mt-6 mb-1 text-[14px]">Verifications so far</h2>
      <DataTable label="Verifications so far" columns={columns} rows={over} rowKey={one => one.id} />
    </>
  )
}

function outcomeSaid({ lanes }: VerificationAnswer): string {
  const said = lanes.map(({ verified }) => agrees(verified))
  const agree = said.filter(one => one === true).length
  const unknown = said.filter(one => one === null).length
  const differ = lanes.reduce((sum, { verified }) => sum + differing(verified) + verified.held, 0)
  const repaired = lanes.reduce((sum, lane) => sum + lane.repaired, 0)
  return [
    agree === lanes.length ? 'all agree' : `${agree} of ${lanes.length} agree`,
    ...(differ > 0 ? [`${plural(differ, 'row')} ${differ === 1 ? 'differs' : 'differ'}`] : []),
    ...(repaired > 0 ? [`${plural(repaired, 'row')} repaired since`] : []),
    ...(unknown > 0 ? [`of ${plural(unknown, 'lane')} it is not known`] : []),
  ].join(', ')
}
