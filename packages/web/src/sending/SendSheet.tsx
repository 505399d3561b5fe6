import { count } from '../format.ts'
import { Button } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { AppsHead } from '../pipelines/AppsHead.tsx'
import { Place } from '../pipelines/Place.tsx'
import { send } from './deeds.ts'
import type { SendingStatus } from './status.ts'

/** What stands above the sections of a pipeline that sends. */
export function SendHead({ pipeline }: { pipeline: SendingStatus }) {
  const { id, definition, state, toName, fromName } = pipeline
  return (
    <AppsHead
      pipeline={pipeline}
      deleting={`Its setup goes, and with it the record of what was sent: another pipeline could only meet the records by their fields. What stands at ${toName || 'the app'} stays.`}
      stopping="No run begins any more. What was sent stays, and is remembered for when it is started again."
      deeds={act => (
        <>
          {state === 'Waiting' && (
            <Confirm
              trigger={<Button look="text">Send all again …</Button>}
              title="Send everything again?"
              verb="Send it"
              act={() => send(id, { deed: 'again' })}
            >
              <p>
                All {typeof pipeline.send?.sent !== 'number' ? '' : `${count(pipeline.send.sent)} `}
                records are written again as the result has them, whatever people have changed in the app.
                Those that were refused are tried again.
              </p>
            </Confirm>
          )}
          <Button
            look="filled"
            disabled={state !== 'Waiting'}
            onClick={() => act(() => send(id, { deed: 'run' }))}
          >
            {state === 'Sending' ? 'Sending …' : 'Send now'}
          </Button>
        </>
      )}
    >
      {state === 'Waiting' && !pipeline.send?.asks && ' for a run'}
      {pipeline.send?.asks && <b className="text-buoy">, asks before it sends</b>}. Sends rows of{' '}
      <Place id={definition.from}>{fromName}</Place> into {definition.object || 'no object yet'} of{' '}
      <Place id={definition.to}>{toName}</Place>, may {definition.may}.
    </AppsHead>
  )
}
