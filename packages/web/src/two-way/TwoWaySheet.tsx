import { Button } from '../parts/Button.tsx'
import { AppsHead } from '../pipelines/AppsHead.tsx'
import { Notice } from '../parts/Notice.tsx'
import { ButtonLink } from '../parts/Button.tsx'
import { Place } from '../pipelines/Place.tsx'
import { plural } from '../format.ts'
import { askTwoWay } from './deeds.ts'
import type { TwoWayPipeline } from './status.ts'

/** What stands above the sections of a pipeline that keeps two places in step. */
export function TwoWayHead({ pipeline }: { pipeline: TwoWayPipeline }) {
  const { id, definition, state, fromName, toName } = pipeline
  const trial = definition.lanes.flatMap(lane =>
    lane.trial ? [lane.trial.a.length + lane.trial.b.length] : [],
  )
  return (
    <AppsHead
      pipeline={pipeline}
      deleting="Its setup goes, and with it what is known of who is whose other half: another pipeline would have to pair them anew. The records on both sides stay."
      stopping="Nothing is carried from one side to the other any more. What is paired is remembered for when it is started again; what was edited meanwhile is merged then."
      deeds={act => (
        <Button
          look="filled"
          disabled={state !== 'Following'}
          onClick={() => act(() => askTwoWay(id, { deed: 'pass', sweep: true }))}
        >
          Look now
        </Button>
      )}
      notices={
        trial.length > 0 && (
          <Notice
            level="warning"
            title={`On trial: ${plural(
              trial.reduce((sum, one) => sum + one, 0),
              'record takes',
              'records take',
            )} part, and no others.`}
          >
            <ButtonLink to={`/pipelines/${id}/change`}>See who would take part without it</ButtonLink>
          </Notice>
        )
      }
    >
      . Keeps {definition.lanes.length === 1 ? 'a place' : plural(definition.lanes.length, 'place')} of{' '}
      <Place id={definition.from}>{fromName}</Place> and of <Place id={definition.to}>{toName}</Place> in
      step.
    </AppsHead>
  )
}
