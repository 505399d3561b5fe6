import type { LaneStatus, ReplicationStatus } from '@tide/core/api/pipelines'
import { useState } from 'react'
import { moment } from '../../format.ts'
import { Button } from '../../parts/Button.tsx'
import { ErrorNotice, Notice } from '../../parts/Notice.tsx'
import { laneTitle } from '../laneTitle.ts'
import { continueLane } from './PauseLane.tsx'

/** Lanes that stand still while the others go on, with the reason and what can be done. */
export function StandingLanes({ pipeline }: { pipeline: ReplicationStatus }) {
  const [error, setError] = useState<unknown>()
  const goOn = (lane: LaneStatus) => () => {
    setError(undefined)
    continueLane(pipeline, lane).catch(setError)
  }
  const standing = pipeline.lanes.filter(({ paused }) => paused)
  if (standing.length === 0) return null
  return (
    <div className="mb-3 space-y-2">
      {standing.map(lane => {
        const paused = lane.paused!
        return (
          <Notice
            key={laneTitle(lane)}
            level={paused.why === null ? 'warning' : 'refused'}
            title={`${laneTitle(lane)} stands still since ${moment(paused.since)}; the other lanes go on.`}
          >
            {paused.why !== null && (
              <p>
                {paused.why.message} {paused.why.remedy}
              </p>
            )}
            {pipeline.state === 'Following' && (
              <Button className="my-1" aria-label={`Continue ${laneTitle(lane)}`} onClick={goOn(lane)}>
                Continue
              </Button>
            )}
          </Notice>
        )
      })}
      <ErrorNotice error={error} />
    </div>
  )
}
