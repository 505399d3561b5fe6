import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { gathersSeconds } from '@tide/core/definition/files'
import { lazy, Suspense, useState } from 'react'
import { useOutletContext } from 'react-router'
import { Archiving } from './now/Archiving.tsx'
import { CopyFigures } from './now/CopyFigures.tsx'
import { CopyLanes } from './now/CopyLanes.tsx'
import { Delay } from './now/Delay.tsx'
import { FollowFigures } from './now/FollowFigures.tsx'
import { FollowLanes } from './now/FollowLanes.tsx'
import { LandNow } from './now/LandNow.tsx'
import { SPANS } from './tide/spans.ts'
import { Origins } from './now/Origins.tsx'
import { isArchive } from '../parts/StateWord.tsx'

const Tide = lazy(() => import('./tide/Tide.tsx'))

/** What is going on right now. */
export function NowSection() {
  const pipeline = useOutletContext<ReplicationStatus>()
  const { state, lanes } = pipeline
  const [seconds, setSeconds] = useState(SPANS[0]!.seconds)
  if (state === 'Draft' || lanes.length === 0) {
    return <p className="py-6 text-ink-2">Nothing has run yet. The setup says what a start would do.</p>
  }
  if (isArchive(pipeline)) return <Archiving pipeline={pipeline} />
  const copying = state === 'Copying' || state === 'Finished'
  return (
    <>
      {copying ? <CopyFigures pipeline={pipeline} /> : <FollowFigures pipeline={pipeline} />}
      {state === 'Following' && pipeline.delay && (
        <Delay delay={pipeline.delay} waits={gathersSeconds(pipeline.definition)} />
      )}
      {state === 'Following' && <LandNow pipeline={pipeline} />}
      {state !== 'Finished' && (
        <Suspense fallback={<div className="h-[270px]" />}>
          <Tide pipeline={pipeline} seconds={seconds} setSeconds={setSeconds} />
        </Suspense>
      )}
      {pipeline.origins.length > 0 && <Origins pipeline={pipeline} />}
      <div className="mt-3">
        {copying ? <CopyLanes lanes={lanes} /> : <FollowLanes pipeline={pipeline} seconds={seconds} />}
      </div>
    </>
  )
}
