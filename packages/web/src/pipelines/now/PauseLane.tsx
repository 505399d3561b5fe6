import type { LaneStatus, ReplicationStatus } from '@tide/core/api/pipelines'
import { api } from '../../api/client.ts'
import { putPipeline } from '../../api/live.ts'
import { TextButton } from '../../parts/Button.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import { laneTitle } from '../laneTitle.ts'

interface LaneProps {
  pipeline: ReplicationStatus
  lane: LaneStatus
}

/** Of the only lane of its origin nothing is offered: that is paused as a whole. */
export function PauseLane({ pipeline, lane }: LaneProps) {
  const others = pipeline.lanes.some(one => one !== lane && one.origin === lane.origin && !one.paused)
  if (lane.paused || !others) return null
  return (
    <Confirm
      trigger={
        <TextButton className="text-[12px]" aria-label={`Pause ${laneTitle(lane)}`}>
          Pause
        </TextButton>
      }
      title={`Let ${laneTitle(lane)} stand still?`}
      verb="Let it stand still"
      act={() => askOfLane('pause-lanes', pipeline, lane)}
    >
      <p>
        Its changes wait in the journal, which keeps them for as long as it takes. The other lanes go on, so
        that whoever queries them together with {lane.target.name} of {pipeline.toName} sees rows of different
        times.
      </p>
    </Confirm>
  )
}

/** Lets a lane go on from where it stands. */
export async function continueLane(pipeline: ReplicationStatus, lane: LaneStatus): Promise<void> {
  await askOfLane('continue-lanes', pipeline, lane)
}

async function askOfLane(
  deed: 'pause-lanes' | 'continue-lanes',
  pipeline: ReplicationStatus,
  lane: LaneStatus,
): Promise<void> {
  const lanes = [pipeline.lanes.indexOf(lane)]
  putPipeline(await api<ReplicationStatus>('POST', `/pipelines/${pipeline.id}/${deed}`, { lanes }))
}
