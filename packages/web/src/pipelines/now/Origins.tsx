import type { OriginStatus, ReplicationStatus } from '@tide/core/api/pipelines'
import { useState } from 'react'
import { Link } from 'react-router'
import { api } from '../../api/client.ts'
import { putPipeline } from '../../api/live.ts'
import { count, duration, moment, plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { DataTable, type Column } from '../../parts/DataTable.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'

/** Each origin by itself: how it stands, and what can be done to it while the others go on. */
export function Origins({ pipeline }: { pipeline: ReplicationStatus }) {
  const [error, setError] = useState<unknown>()
  const act = async ({ id }: OriginStatus, deed: string, body?: unknown) => {
    setError(undefined)
    await api('POST', `/pipelines/${id}/${deed}`, body)
    putPipeline(await api<ReplicationStatus>('GET', `/pipelines/${pipeline.id}`))
  }
  const tryTo = (origin: OriginStatus, deed: string) => () => void act(origin, deed).catch(setError)
  const columns: Column<OriginStatus>[] = [
    {
      title: 'Origin',
      cell: origin => <span className="font-semibold">{origin.tag}</span>,
      by: origin => origin.tag,
    },
    {
      title: 'From',
      cell: ({ connection, connectionName }) => (
        <Link className="underline decoration-line-2 underline-offset-2" to={`/connections/${connection}`}>
          {connectionName}
        </Link>
      ),
      by: origin => origin.connectionName,
    },
    {
      title: 'State',
      cell: origin => <State origin={origin} />,
      by: origin => origin.state,
    },
    {
      title: 'Lag',
      cell: ({ lagSeconds }) => (lagSeconds === null ? '–' : duration(lagSeconds)),
      by: origin => origin.lagSeconds ?? -1,
      align: 'right',
    },
    {
      title: 'Waiting',
      cell: ({ backlog }) => (backlog === null ? '–' : count(backlog)),
      by: origin => origin.backlog ?? -1,
      align: 'right',
    },
    {
      title: 'Complete up to',
      cell: ({ completeUpTo }) => (completeUpTo ? moment(completeUpTo) : '–'),
      by: origin => origin.completeUpTo ?? '',
      align: 'right',
    },
    {
      title: 'Deeds',
      untitled: true,
      cell: origin => (
        <Deeds
          pipeline={pipeline}
          origin={origin}
          tryTo={deed => tryTo(origin, deed)}
          act={(deed, body) => act(origin, deed, body)}
        />
      ),
      align: 'right',
    },
  ]
  return (
    <div className="mt-3">
      <ErrorNotice error={error} />
      <DataTable label="Origins" columns={columns} rows={pipeline.origins} rowKey={origin => origin.id} />
    </div>
  )
}

function State({ origin: { state, wanted, retry, reason, waits } }: { origin: OriginStatus }) {
  const said = retry ?? waits ?? (state === 'Stopped' ? reason : null)
  const broken = retry !== null || (state === 'Stopped' && reason !== null && reason.kind !== 'person')
  const word = retry
    ? `${state}, trying again`
    : wanted === 'stop' && state !== 'Stopped'
      ? 'Stopping'
      : state
  return (
    <span className={broken ? 'text-buoy' : ''} title={said ? `${said.message} ${said.remedy}` : undefined}>
      {word}
    </span>
  )
}

interface DeedsProps {
  pipeline: ReplicationStatus
  origin: OriginStatus
  tryTo: (deed: string) => () => void
  act: (deed: string, body?: unknown) => Promise<void>
}

function Deeds({ pipeline, origin, tryTo, act }: DeedsProps) {
  const { state, tag, connectionName, reason, wanted } = origin
  const lanes = pipeline.lanes.filter(lane => lane.origin === tag)
  const small = 'text-[12px]'
  if (wanted === 'stop' && state !== 'Stopped') return null
  const byPerson = reason?.kind === 'person'
  return (
    <span className="flex justify-end gap-3">
      {(state === 'Paused' || (state === 'Stopped' && !byPerson)) && (
        <TextButton className={small} aria-label={`Continue ${tag}`} onClick={tryTo('continue')}>
          Continue
        </TextButton>
      )}
      {(state === 'Following' || state === 'Copying') && (
        <TextButton className={small} aria-label={`Pause ${tag}`} onClick={tryTo('pause')}>
          Pause
        </TextButton>
      )}
      {(state === 'Following' || (state === 'Stopped' && byPerson)) && (
        <Confirm
          trigger={
            <TextButton className={small} aria-label={`Recopy ${tag}`}>
              Recopy
            </TextButton>
          }
          title={`Recopy all that is from ${tag}?`}
          verb="Delete its rows and copy them"
          danger
          act={() => (state === 'Following' ? act('recopy', { lanes: [] }) : act('start'))}
        >
          <p>
            Its rows in {plural(lanes.length, 'table')} of {pipeline.toName} are deleted and copied again from{' '}
            {connectionName}. Those of the other origins stay as they are.
          </p>
        </Confirm>
      )}
      {state !== 'Stopped' && (
        <Confirm
          trigger={
            <TextButton className={small} aria-label={`Stop ${tag}`}>
              Stop
            </TextButton>
          }
          title={`Stop following ${tag}?`}
          verb="Stop it"
          danger
          act={() => act('stop')}
        >
          <p>
            Changes at {connectionName} are no longer captured; its rows at {pipeline.toName} stay as they
            are. To follow it again, all that is from it is copied anew. The other origins go on.
          </p>
        </Confirm>
      )}
    </span>
  )
}
