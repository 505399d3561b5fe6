import { gathersSeconds, isChangeFiles } from '@tide/core/definition/files'
import type { LaneStatus, PipelineStatus, ReplicationStatus } from '@tide/core/api/pipelines'
import type { RunBy } from '@tide/core/api/engines'
import { Fragment, useState } from 'react'
import { NavLink, Outlet, useNavigate, useParams } from 'react-router'
import { api } from '../api/client.ts'
import { dropPipeline, putPipeline, useLive, usePipeline } from '../api/live.ts'
import { refreshConnections } from '../api/queries.ts'
import { clock, count, duration, moment, plural } from '../format.ts'
import { useWhere } from '../frame/crumbs.ts'
import { Button, ButtonLink } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { ErrorNotice, Notice } from '../parts/Notice.tsx'
import { stateText, waitsForEngine } from '../parts/StateWord.tsx'
import { RewindDialog } from './rewind/RewindDialog.tsx'
import { PauseForetold } from './PauseForetold.tsx'
import { REWIND } from './rewind/search.ts'
import { tablesSaid } from './tablesSaid.ts'
import { SendHead } from '../sending/SendSheet.tsx'
import { isSending } from '../sending/status.ts'
import { isTwoWay } from '../two-way/status.ts'
import { TwoWayHead } from '../two-way/TwoWaySheet.tsx'
import { Place } from './Place.tsx'

const REPLICATES = [
  { to: '', title: 'Now' },
  { to: 'rows', title: 'Rows' },
  { to: 'held', title: 'Held' },
  { to: 'agreement', title: 'Agreement' },
  { to: 'runs', title: 'Runs' },
  { to: 'schedules', title: 'Schedules' },
  { to: 'setup', title: 'Setup' },
  { to: 'log', title: 'Log' },
]

const SENDS = [
  { to: '', title: 'Now' },
  { to: 'differences', title: 'Differences' },
  { to: 'records', title: 'Records' },
  { to: 'refused', title: 'Held' },
  { to: 'runs', title: 'Runs' },
  { to: 'schedules', title: 'Schedules' },
  { to: 'sends', title: 'Setup' },
  { to: 'log', title: 'Log' },
]

const TWO_WAY = [
  { to: '', title: 'Now' },
  { to: 'pairs', title: 'Records' },
  { to: 'undecided', title: 'Held' },
  { to: 'runs', title: 'Runs' },
  { to: 'schedules', title: 'Schedules' },
  { to: 'in-step', title: 'Setup' },
  { to: 'log', title: 'Log' },
]

/** One pipeline: its state in words, its lag, the next sensible action. */
export function PipelineSheet() {
  const { id } = useParams()
  const pipeline = usePipeline(id)
  const known = useLive(live => live.pipelines !== undefined)
  useWhere({ title: 'Pipelines', to: '/pipelines' }, { title: pipeline?.definition.name || 'Without a name' })
  const differs = pipeline?.lanes.reduce((sum, lane) => sum + lane.differs, 0) ?? 0
  if (!pipeline) return known ? <p className="p-8 text-ink-2">This pipeline is not there any more.</p> : null
  const sends = isSending(pipeline)
  const twoWay = isTwoWay(pipeline)
  const waiting = twoWay ? (pipeline.twoWay?.held ?? 0) : sends ? (pipeline.send?.held ?? 0) : differs
  return (
    <article className="flex min-h-full flex-col px-6 py-4">
      {twoWay ? (
        <TwoWayHead key={pipeline.id} pipeline={pipeline} />
      ) : sends ? (
        <SendHead key={pipeline.id} pipeline={pipeline} />
      ) : (
        <Head key={pipeline.id} pipeline={pipeline as ReplicationStatus} />
      )}
      <nav className="mt-3 flex gap-6 border-b border-line-2" aria-label="Sections of the pipeline">
        {(twoWay ? TWO_WAY : sends ? SENDS : REPLICATES).map(({ to, title }) => (
          <NavLink
            key={title}
            to={to}
            end
            className={({ isActive }) =>
              `-mb-px border-b-2 pb-1.5 ${isActive ? 'border-ink font-semibold' : 'border-transparent text-ink-2'}`
            }
          >
            {title}
            {title === 'Held' && waiting > 0 && <b className="ml-1 text-buoy">{count(waiting)}</b>}
          </NavLink>
        ))}
      </nav>
      <Outlet context={pipeline} key={`section ${pipeline.id}`} />
      {!sends && !twoWay && <RewindDialog pipeline={pipeline as ReplicationStatus} />}
    </article>
  )
}

function Head({ pipeline }: { pipeline: ReplicationStatus }) {
  const { definition, reason, retry, engine, state } = pipeline
  // The target may write the name otherwise than it was typed.
  const schema = pipeline.lanes[0]?.target.namespace ?? definition.targetSchema
  const [error, setError] = useState<unknown>()
  const act = async (action: string, body?: unknown) => {
    setError(undefined)
    putPipeline(await api<PipelineStatus>('POST', `/pipelines/${pipeline.id}/${action}`, body))
  }
  const tryTo = (action: string) => () => void act(action).catch(setError)
  return (
    <header>
      <div className="flex items-start gap-2">
        <div className="min-w-0 flex-1">
          <h1 className="text-[20px] leading-tight">{definition.name || 'Without a name'}</h1>
          <p className="mt-0.5 text-ink-2">
            <StateSentence pipeline={pipeline} /> {tablesSaid(pipeline)} from <Sources pipeline={pipeline} />{' '}
            into <Place id={definition.to}>{pipeline.toName}</Place>
            {schema && `, schema ${schema}`}.
            {engine?.live && !engine.here && <> Run by the engine {engine.name}.</>}
          </p>
        </div>
        <Actions pipeline={pipeline} act={act} tryTo={tryTo} />
      </div>
      <div className="mt-2 space-y-2 empty:hidden">
        <ErrorNotice error={error} />
        {engine && !engine.live && state !== 'Stopped' && <Waiting engine={engine} />}
        {retry && (
          <Notice level="warning" title={retry.message}>
            {retry.remedy} Try {retry.attempt + 1} at {clock(retry.nextAt)}.
          </Notice>
        )}
        {pipeline.changing && !retry && (
          <Notice level="warning" title="The change of its setup is being carried out.">
            It goes on by itself.
          </Notice>
        )}
        {pipeline.waits && (
          <Notice level="warning" title={pipeline.waits.message}>
            {pipeline.waits.remedy}
          </Notice>
        )}
        {state === 'Paused' && <PauseForetold pipeline={pipeline} />}
        {reason && !retry && (
          <Notice level={reason.kind === 'person' ? 'warning' : 'refused'} title={reason.message}>
            {reason.remedy}
          </Notice>
        )}
      </div>
    </header>
  )
}

/** Its engine is gone. What is tied to that engine's data folder waits; anything else is taken over in a moment. */
function Waiting({ engine: { name, seenAt, affinity } }: { engine: RunBy }) {
  const seen = `The engine ${name} was last heard of ${moment(seenAt)}.`
  if (!affinity)
    return (
      <Notice level="warning" title={seen}>
        Another one takes this pipeline over.
      </Notice>
    )
  return (
    <Notice level="refused" title={`${seen} Nobody else can run this pipeline: ${name} has ${affinity}.`}>
      Start that engine again with its data folder; it goes on where it was. If the folder is lost, stop the
      pipeline, delete it leaving its capture, and make it anew.
    </Notice>
  )
}

function StateSentence({ pipeline }: { pipeline: ReplicationStatus }) {
  const { state, lagSeconds, backlog } = pipeline
  const word = <b className="text-ink">{stateText(pipeline)}</b>
  if (waitsForEngine(pipeline)) return <>{word}.</>
  if (state === 'Following') {
    const behind =
      lagSeconds === null
        ? 'lag unknown'
        : lagSeconds <= 1 && backlog === 0
          ? 'caught up'
          : lagSeconds <= gathersSeconds(pipeline.definition) + 1
            ? `gathering, ${duration(lagSeconds)} so far`
            : `${duration(lagSeconds)} behind`
    const detached = pipeline.lanes.filter(lane => lane.detached).length
    const still = pipeline.lanes.filter(lane => lane.paused && lane.paused.why === null).length
    return (
      <>
        {word}, <b className="text-ink">{behind}</b>
        {detached > 0 && `; ${plural(detached, 'table is', 'tables are')} copied meanwhile`}
        {still > 0 && `; ${plural(still, 'table stands', 'tables stand')} still`}.
      </>
    )
  }
  if (state === 'Paused' && backlog !== null) {
    return (
      <>
        {word}, {plural(backlog, 'change')} waiting.
      </>
    )
  }
  return <>{word}.</>
}

function Sources({ pipeline: { definition, fromName, origins } }: { pipeline: ReplicationStatus }) {
  const { from } = definition
  if (typeof from === 'string') return <Place id={from}>{fromName}</Place>
  return (
    <>
      {from.map(({ connection, tag }, i) => (
        <Fragment key={tag}>
          {i > 0 && (i === from.length - 1 ? ' and ' : ', ')}
          <Place id={connection}>{origins[i]?.connectionName ?? tag}</Place>
        </Fragment>
      ))}
    </>
  )
}

interface ActionsProps {
  pipeline: ReplicationStatus
  act: (action: string, body?: unknown) => Promise<void>
  tryTo: (action: string) => () => void
}

function Actions({ pipeline, act, tryTo }: ActionsProps) {
  const navigate = useNavigate()
  const { id, state, reason, lanes, definition, wanted } = pipeline
  const byPerson = reason?.kind === 'person'
  const stop = (
    <Confirm
      trigger={<Button look="text">Stop</Button>}
      title={`Stop ${definition.name}?`}
      verb="Stop it"
      danger
      act={() => act('stop')}
    >
      <p>
        Changes of {plural(lanes.length, 'table')} are no longer captured at {pipeline.fromName}; what changes
        there afterwards is not known. The tables at {pipeline.toName} stay as they are.
      </p>
      <p>Starting again copies everything anew. To stand still for a while, pause instead.</p>
    </Confirm>
  )
  if (state === 'Draft' || state === 'Ready') {
    return (
      <>
        <DeletePipeline pipeline={pipeline} />
        <ButtonLink look="filled" to={`/pipelines/${id}/change`}>
          Go on with the setup
        </ButtonLink>
      </>
    )
  }
  if (state === 'Finished') {
    return (
      <>
        <DeletePipeline pipeline={pipeline} />
        <ButtonLink look="filled" to={`/pipelines/${id}/change`}>
          Start again …
        </ButtonLink>
      </>
    )
  }
  if (state === 'Stopped') {
    if (wanted === 'stop' && !byPerson) return <span className="text-ink-2">Stopping …</span>
    return (
      <>
        <DeletePipeline pipeline={pipeline} />
        {!byPerson && stop}
        {!byPerson && <Rewind />}
        <Button look={byPerson ? 'filled' : 'text'} onClick={() => void navigate(`/pipelines/${id}/change`)}>
          Start again …
        </Button>
        {reason?.kind === 'guard' ? (
          <Confirm
            trigger={<Button look="filled">Let the rows go …</Button>}
            title="Let these rows go?"
            verb="Delete them at the target"
            danger
            act={() => act('let-rows-go')}
          >
            <p>{reason.message}</p>
            <p>What comes behind that lands again afterwards.</p>
          </Confirm>
        ) : (
          !byPerson && (
            <Button look="filled" onClick={tryTo('continue')}>
              Continue
            </Button>
          )
        )}
      </>
    )
  }
  if (wanted === 'stop') return pipeline.retry ? <DeletePipeline pipeline={pipeline} /> : null
  return (
    <>
      {stop}
      {state !== 'Copying' && definition.does !== 'archive' && <Rewind />}
      {state === 'Following' && (
        <Confirm
          trigger={<Button look="text">Recopy</Button>}
          title={`Recopy all of ${definition.name}?`}
          verb={`Empty and copy ${plural(lanes.length, 'table')}`}
          danger
          act={() => act('recopy', { lanes: [] })}
        >
          <p>
            {isChangeFiles(pipeline.definition) ? (
              'The next file of each table says that all begins anew, and its rows are copied behind that; the files that are there stay.'
            ) : (
              <>
                {' '}
                {rowsOf(lanes)} in {plural(lanes.length, 'table')} of {pipeline.toName} are deleted and copied
                again from {pipeline.fromName}. Those who query them meanwhile see a part only.
              </>
            )}
          </p>
        </Confirm>
      )}
      {state === 'Paused' ? (
        <Button look="filled" onClick={tryTo('continue')}>
          Continue
        </Button>
      ) : (
        <Button look="filled" onClick={tryTo('pause')}>
          Pause
        </Button>
      )}
    </>
  )
}

function Rewind() {
  return (
    <ButtonLink look="text" to={{ search: `?${REWIND}=` }}>
      Rewind …
    </ButtonLink>
  )
}

/** How many rows there are in all, where each count is known. */
function rowsOf(lanes: readonly LaneStatus[]): string {
  if (lanes.some(({ rowsThere }) => rowsThere === null)) return 'All rows'
  return plural(
    lanes.reduce((sum, { rowsThere }) => sum + rowsThere!, 0),
    'row',
  )
}

function DeletePipeline({ pipeline }: { pipeline: PipelineStatus }) {
  const navigate = useNavigate()
  const draft = pipeline.state === 'Draft'
  const over = pipeline.state === 'Finished' || pipeline.reason?.kind === 'person'
  const captures = !draft && !over
  const remove = async () => {
    await api('DELETE', `/pipelines/${pipeline.id}${captures ? '?leaveCapture=true' : ''}`)
    dropPipeline(pipeline.id)
    await refreshConnections()
    await navigate('/pipelines')
  }
  return (
    <Confirm
      trigger={<Button look="text">Delete</Button>}
      title={`Delete ${pipeline.definition.name || 'this draft'}?`}
      verb="Delete it"
      danger
      act={remove}
    >
      <p>
        {draft
          ? 'The draft goes; nothing was started.'
          : `Its setup, figures and log go. Its ${plural(pipeline.lanes.length, 'table')} at ${pipeline.toName} stay as they are.`}
      </p>
      {captures && (
        <p>
          Its capture stays at {pipeline.fromName} and grows there. If the source can still be reached, stop
          the pipeline first; that takes the capture off.
        </p>
      )}
    </Confirm>
  )
}
