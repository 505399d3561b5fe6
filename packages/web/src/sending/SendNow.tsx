import type { SendResult } from '@tide/core/api/send'
import { useQuery } from '@tanstack/react-query'
import { useOutletContext } from 'react-router'
import { api } from '../api/client.ts'
import { count, duration, moment, plural } from '../format.ts'
import { Button } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { Figure } from '../parts/Figure.tsx'
import { Notice } from '../parts/Notice.tsx'
import { send } from './deeds.ts'
import { Results } from './Results.tsx'
import type { SendingStatus } from './status.ts'

const SHOWN = 12

/** How it stands: the run that goes, or the last one as a sentence, and what was sent last. */
export function SendNow() {
  const pipeline = useOutletContext<SendingStatus>()
  const { id, send: sending, toName, state } = pipeline
  const results = useQuery({
    queryKey: ['sent', id, 'results', sending?.last?.id, sending?.progress?.done],
    queryFn: () => api<SendResult[]>('GET', `/pipelines/${id}/results`),
    enabled: state !== 'Draft',
    placeholderData: before => before,
  })
  if (state === 'Draft')
    return (
      <p className="max-w-xl py-4 text-ink-2">
        Nothing was sent yet. Go on with the setup: it shows what the first run would do, before anything is
        written to {toName || 'the app'}.
      </p>
    )
  const { progress = null, last = null, asks = null, sent = null, held = null } = sending ?? {}
  return (
    <div className="py-3">
      {asks && (
        <div className="mb-3">
          <Notice level="refused" title={asks.message}>
            Asked {moment(asks.at)}. Look at the differences; then let them pass once, or correct the query.{' '}
            <Confirm
              trigger={<Button look="outlined">Let them pass once …</Button>}
              title="Let these differences pass?"
              verb="Send them"
              danger
              act={() =>
                send(id, {
                  deed: 'pass',
                  most: { create: asks.create, change: asks.change, remove: asks.remove },
                })
              }
            >
              <p>
                At most {count(asks.create)} records are created, {count(asks.change)} changed and{' '}
                {count(asks.remove)} removed at {toName}. If there is more by then, it asks again.
              </p>
            </Confirm>
          </Notice>
        </div>
      )}
      {progress ? <Going progress={progress} /> : <LastRun last={last} />}
      <dl className="flex flex-wrap gap-y-2 py-3">
        <Figure label={`records at ${toName} by us`} value={sent === null ? 'unknown' : count(sent)} />
        <Figure
          label="refused, held back"
          value={<span className={held ? 'text-buoy' : ''}>{held === null ? 'unknown' : count(held)}</span>}
        />
        {last && <Figure label="created last" value={count(last.created)} />}
        {last && <Figure label="changed" value={count(last.changed)} />}
        {last && <Figure label="removed" value={count(last.removed)} />}
        {last && <Figure label="as they were" value={count(last.unchanged)} />}
      </dl>
      <h2 className="mt-2 text-[14px]">Sent last</h2>
      {results.data && results.data.length > 0 ? (
        <Results results={results.data.slice(0, SHOWN)} label="Sent last" />
      ) : (
        <p className="py-2 text-ink-2">Nothing yet.</p>
      )}
    </div>
  )
}

const PHASES = {
  reading: 'Reads rows',
  comparing: 'Compares',
  meeting: 'Reads the app’s records',
  sending: 'Sends',
}

function Going({
  progress: { phase, done, of, perSecond },
}: {
  progress: NonNullable<NonNullable<SendingStatus['send']>['progress']>
}) {
  const left = of !== null && perSecond > 0 ? (of - done) / perSecond : null
  return (
    <div role="status">
      <p className="text-[17px]">
        {PHASES[phase]}: <b>{count(done)}</b>
        {of !== null && ` of ${count(of)}`}
        {perSecond > 0 && `, ${count(Math.round(perSecond))} a second`}
        {left !== null && `, ${duration(left)} left`}
      </p>
      {of !== null && of > 0 && (
        <div className="mt-1.5 h-1.5 bg-line" aria-hidden>
          <div className="h-full bg-water-4" style={{ width: `${Math.min(100, (done / of) * 100)}%` }} />
        </div>
      )}
    </div>
  )
}

function LastRun({ last }: { last: NonNullable<SendingStatus['send']>['last'] }) {
  if (!last) return <p className="text-[17px]">No run since the engine began; earlier ones are in Runs.</p>
  const { created, changed, removed, refused, endedAt, startedAt, note } = last
  const done = created + changed + removed
  return (
    <div>
      <p className="text-[17px]">
        The last run ended {moment(endedAt)} and sent <b>{plural(done, 'record')}</b>
        {refused > 0 && (
          <>
            ; <b className="text-buoy">{plural(refused, 'was', 'were')} refused</b>
          </>
        )}
        .{' '}
        <span className="text-[13px] text-ink-2">
          It took {duration((Date.parse(endedAt) - Date.parse(startedAt)) / 1000)}.
        </span>
      </p>
      {note && <Notice level="warning" title={note} />}
    </div>
  )
}
