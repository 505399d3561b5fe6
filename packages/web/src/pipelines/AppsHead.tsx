import type { PipelineStatus } from '@tide/core/api/pipelines'
import { useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { api } from '../api/client.ts'
import { dropPipeline, putPipeline } from '../api/live.ts'
import { refreshConnections } from '../api/queries.ts'
import { clock } from '../format.ts'
import { Button, ButtonLink } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { ErrorNotice, Notice } from '../parts/Notice.tsx'
import { stateText } from '../parts/StateWord.tsx'

interface AppsHeadProps {
  pipeline: PipelineStatus
  /** What it does, after the word for its state. */
  children: ReactNode
  /** What goes with it when it is deleted, and what a stop means. */
  deleting: string
  stopping: string
  /** What else can be done while it runs; `act` shows what goes wrong. */
  deeds: (act: (deed: () => Promise<unknown>) => void) => ReactNode
  /** Beside the usual ones. */
  notices?: ReactNode
}

/** What stands above the sections of a pipeline that works in apps: its state, the next sensible action. */
export function AppsHead({ pipeline, children, deleting, stopping, deeds, notices }: AppsHeadProps) {
  const { id, definition, reason, retry, state, wanted } = pipeline
  const navigate = useNavigate()
  const [error, setError] = useState<unknown>()
  const turnTo = (action: string) => async () =>
    putPipeline(await api<PipelineStatus>('POST', `/pipelines/${id}/${action}`))
  const act = (deed: () => Promise<unknown>) => {
    setError(undefined)
    deed().catch(setError)
  }
  const remove = async () => {
    await api('DELETE', `/pipelines/${id}`)
    dropPipeline(id)
    await refreshConnections()
    await navigate('/pipelines')
  }
  const stopped = state === 'Stopped' || state === 'Draft'
  const forReason = state === 'Stopped' && reason?.kind !== 'person'
  return (
    <header>
      <div className="flex items-start gap-2">
        <div className="min-w-0 flex-1">
          <h1 className="text-[20px] leading-tight">{definition.name || 'Without a name'}</h1>
          <p className="mt-0.5 text-ink-2">
            <b className="text-ink">{stateText(pipeline)}</b>
            {children}
          </p>
        </div>
        {stopped ? (
          <>
            {!(wanted === 'stop' && state !== 'Draft' && reason?.kind !== 'person') && (
              <Confirm
                trigger={<Button look="text">Delete</Button>}
                title={`Delete ${definition.name || 'this draft'}?`}
                verb="Delete it"
                danger
                act={remove}
              >
                <p>{deleting}</p>
              </Confirm>
            )}
            {forReason ? (
              <>
                <Button look="text" onClick={() => act(turnTo('stop'))}>
                  Stop
                </Button>
                {reason?.kind === 'guard' && (
                  <Confirm
                    trigger={<Button look="outlined">Let them go …</Button>}
                    title="Take them for gone?"
                    verb="Let them go"
                    danger
                    act={turnTo('let-rows-go')}
                  >
                    <p>{reason.message}</p>
                    <p>What becomes of their other halves is said in the setup.</p>
                  </Confirm>
                )}
                <Button look="filled" onClick={() => act(turnTo('continue'))}>
                  Continue
                </Button>
              </>
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
              act={turnTo('stop')}
            >
              <p>{stopping}</p>
            </Confirm>
            {state === 'Paused' ? (
              <Button look="filled" onClick={() => act(turnTo('continue'))}>
                Continue
              </Button>
            ) : (
              <>
                <Button look="text" onClick={() => act(turnTo('pause'))}>
                  Pause
                </Button>
                {deeds(act)}
              </>
            )}
          </>
        )}
      </div>
      <div className="mt-2 space-y-2 empty:hidden">
        <ErrorNotice error={error} />
        {notices}
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
