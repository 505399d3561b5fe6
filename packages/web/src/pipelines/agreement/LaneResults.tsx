import type { LaneStatus, ReplicationStatus } from '@tide/core/api/pipelines'
import { agrees, differing } from '@tide/core/definition/verification'
import { useLive } from '../../api/live.ts'
import { ago, count, moment } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { DataTable, type Column } from '../../parts/DataTable.tsx'
import { Name } from '../../parts/Name.tsx'
import { laneTitle } from '../laneTitle.ts'
import { foundSaid } from './said.ts'
import { Strip } from './Strip.tsx'
import { isOver, type newestOf } from './useVerifications.ts'
import { VerifyDialog } from './VerifyDialog.tsx'

interface LaneResultsProps {
  pipeline: ReplicationStatus
  /** By lane. */
  results: ReturnType<typeof newestOf>[]
  chosen: number | undefined
  choose: (lane: number | undefined) => void
  /** It can be verified. */
  runs: boolean
}

export function LaneResults({ pipeline, results, chosen, choose, runs }: LaneResultsProps) {
  const now = useLive(live => live.now)
  const indexOf = (lane: LaneStatus) => pipeline.lanes.indexOf(lane)
  const of = (lane: LaneStatus) => results[indexOf(lane)]?.newest
  const columns: Column<LaneStatus>[] = [
    { title: 'Lane', cell: lane => <Name>{laneTitle(lane)}</Name>, by: lane => laneTitle(lane) },
    {
      title: 'What was found',
      cell: lane => <Found lane={of(lane)} />,
      by: lane => {
        const found = of(lane)
        return found ? differing(found.verified) + found.verified.held : -1
      },
      className: 'whitespace-normal max-w-md',
    },
    {
      title: 'At the source',
      cell: lane => rowsOf(of(lane)?.verified.atSource),
      by: lane => of(lane)?.verified.atSource ?? -1,
      align: 'right',
    },
    {
      title: 'At the target',
      cell: lane => rowsOf(of(lane)?.verified.atTarget),
      by: lane => of(lane)?.verified.atTarget ?? -1,
      align: 'right',
    },
    {
      title: 'By key',
      cell: lane => {
        const found = of(lane)
        return found && found.verified.level === 'rows' && found.verified.state !== 'waiting' ? (
          <Strip strip={found.verified.strip} label={laneTitle(lane)} />
        ) : null
      },
    },
    {
      title: 'Verified',
      cell: lane => <When of={results[indexOf(lane)]} now={now} />,
      by: lane => of(lane)?.verified.endedAt ?? '',
      align: 'right',
    },
    {
      title: 'What can be done',
      untitled: true,
      cell: lane => {
        const index = indexOf(lane)
        const found = of(lane)
        if (found && differing(found.verified) + found.verified.held > 0)
          return (
            <TextButton
              className="text-[12px]"
              aria-expanded={chosen === index}
              aria-label={`Differences of ${laneTitle(lane)}`}
              onClick={() => choose(chosen === index ? undefined : index)}
            >
              {chosen === index ? 'Fold' : 'Look'}
            </TextButton>
          )
        if (!runs || (found && !isOver(found.verified))) return null
        return (
          <VerifyDialog
            pipeline={pipeline}
            lanes={[index]}
            trigger={
              <TextButton className="text-[12px]" aria-label={`Verify ${laneTitle(lane)}`}>
                Verify
              </TextButton>
            }
          />
        )
      },
      align: 'right',
    },
  ]
  // What needs a person comes first.
  const differs = (lane: LaneStatus) => (isOpen(of(lane)) ? 0 : 1)
  const rows = [...pipeline.lanes].sort((a, b) => differs(a) - differs(b))
  return <DataTable label="Lanes" columns={columns} rows={rows} rowKey={lane => laneTitle(lane)} />
}

function Found({ lane }: { lane: ReturnType<typeof newestOf>['newest'] }) {
  if (!lane) return <span className="text-ink-3">not verified yet</span>
  const { verified, repaired } = lane
  const differs = isOpen(lane)
  const failed = verified.state === 'failed'
  return (
    <span className={differs || failed ? 'font-semibold text-buoy' : isOver(verified) ? '' : 'text-ink-2'}>
      {foundSaid(verified, repaired)}
    </span>
  )
}

/** Some of what differs has not been repaired. */
function isOpen(lane: ReturnType<typeof newestOf>['newest']): boolean {
  if (!lane || agrees(lane.verified) !== false) return false
  return lane.verified.level === 'counts' || lane.repaired < differing(lane.verified) + lane.verified.held
}

function When({ of, now }: { of: ReturnType<typeof newestOf> | undefined; now: number }) {
  const newest = of?.newest
  if (!newest) return <span className="text-ink-3">–</span>
  const { verified } = newest
  if (!isOver(verified)) return <span className="text-ink-2">under way</span>
  const upTo = verified.completeUpTo ? `, with everything up to ${moment(verified.completeUpTo)}` : ''
  return <span title={`${moment(verified.endedAt!)}${upTo}`}>{ago(verified.endedAt!, now)}</span>
}

function rowsOf(rows: number | null | undefined): string {
  return rows === null || rows === undefined ? '–' : count(rows)
}
