import type { PipelineStatus } from '@tide/core/api/pipelines'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api } from '../api/client.ts'
import { dropPipeline, putPipeline } from '../api/live.ts'
import { refreshConnections } from '../api/queries.ts'
import { clock, count } from '../format.ts'
import { Button, ButtonLink } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { ErrorNotice, Notice } from '../parts/Notice.tsx'
import { stateText } from '../parts/StateWord.tsx'
import { Place } from '../pipelines/Place.tsx'
import { send } from './deeds.ts'
import type { SendingStatus } from './status.ts'

/** What stands above the sections of a pipeline that sends: its state, the next sensible action. */
export function SendHead({ pipeline }: { pipeline: SendingStatus }) {
  const { id, definition, reason, retry, state, wanted } = pipeline
  const navigate = useNavigate()
  const [error, setError] = useState<unknown>()
  const act = (action: string) => async () => {
    setError(undefined)
    putPipeline(await api<PipelineStatus>('POST', `/pipelines/${id}/${action}`))
  }
  const tryTo = (action: string) => () => void act(action)().catch(setError)
  const remove = async () => {
    await api('DELETE', `/pipelines/${id}`)
    dropPipeline(id)
    await refreshConnections()
    await navigate('/pipelines')
  }
  const stopped = state === 'Stopped' || state === 'Draft'
  const deletes = (
    <Confirm
      trigger={<Button look="text">Delete</Button>}
      title={`Delete ${definition.name || 'this draft'}?`}
      verb="Delete it"
      danger
      act={remove}
    >
      <p>
        Its setup goes, and with it the record of what was sent: another pipeline could only meet the records
        by their fields. What stands at {pipeline.toName || 'the app'} stays.
      </p>
    </Confirm>
  )
  return (
    <header>
      <div className="flex items-start gap-2">
        <div className="min-w-0 flex-1">
          <h1 className="text-[20px] leading-tight">{definition.name || 'Without a name'}</h1>
          <p className="mt-0.5 text-ink-2">
            <b className="text-ink">{stateText(pipeline)}</b>
            {state === 'Waiting' && !pipeline.send?.asks && ' for a run'}
            {pipeline.send?.asks && <b className="text-buoy">, asks before it sends</b>}. Sends rows of{' '}
            <Place id={definition.from}>{pipeline.fromName}</Place> into{' '}
            {definition.object || 'no object yet'} of <Place id={definition.to}>{pipeline.toName}</Place>, may{' '}
            {definition.may}.
          </p>
        </div>
        {stopped ? (
          <>
            {wanted === 'stop' && state !== 'Draft' && reason?.kind !== 'person' ? null : deletes}
            {state === 'Stopped' && reason?.kind !== 'person' && (
              <Button look="text" onClick={tryTo('stop')}>
                Stop
              </Button>
            )}
            {state === 'Stopped' && reason?.kind !== 'person' ? (
              <Button look="filled" onClick={tryTo('continue')}>
                Continue
              </Button>
            ) : (
              <ButtonLink look="filled" to={`/pipelines/${id}/change`}>
                {state === 'Draft' ? 'Go on with the setup' : 'Start again …'}
              </ButtonLink>
            )}
          </>
        ) : (
          <>
            <Confirm
              trigger={<Button look="text">Stop</Button>}
              title={`Stop ${definition.name}?`}
              verb="Stop it"
              act={act('stop')}
            >
              <p>
                No run begins any more. What was sent stays, and is remembered for when it is started again.
              </p>
            </Confirm>
            {state === 'Paused' ? (
              <Button look="filled" onClick={tryTo('continue')}>
                Continue
              </Button>
            ) : (
              <>
                <Button look="text" onClick={tryTo('pause')}>
                  Pause
                </Button>
                {state === 'Waiting' && (
                  <Confirm
                    trigger={<Button look="text">Send all again …</Button>}
                    title="Send everything again?"
                    verb="Send it"
                    act={() => send(id, { deed: 'again' })}
                  >
                    <p>
                      All {typeof pipeline.send?.sent !== 'number' ? '' : `${count(pipeline.send.sent)} `}
                      records are written again as the result has them, whatever people have changed in the
                      app. Those that were refused are tried again.
                    </p>
                  </Confirm>
                )}
                <Button
                  look="filled"
                  disabled={state !== 'Waiting'}
                  onClick={() => {
                    setError(undefined)
                    send(id, { deed: 'run' }).catch(setError)
                  }}
                >
                  {state === 'Sending' ? 'Sending …' : 'Send now'}
                </Button>
              </>
            )}
          </>
        )}
      </div>
      <div className="mt-2 space-y-2 empty:hidden">
        <ErrorNotice error={error} />
        {retry && (
          <Notice level="warning" title={retry.message}>
            {retry.remedy} Try {retry.attempt + 1} at {clock(retry.nextAt)}.
          </Notice>
        )}
        {reason && !retry && (
          <Notice level={reason.kind === 'person' ? 'warning' : 'refused'} title={reason.message}>
            {reason.remedy}
          </Notice>
        )}
      </div>
    </header>
  )
}
