import type { TwoWayTrail } from '@tide/core/api/two-way'
import { useQuery } from '@tanstack/react-query'
import { Link, useOutletContext } from 'react-router'
import { api } from '../api/client.ts'
import { clock, count, duration, moment, plural } from '../format.ts'
import { Figure } from '../parts/Figure.tsx'
import { TrailTable } from './TrailTable.tsx'
import type { TwoWayPipeline } from './status.ts'

const SHOWN = 60

/** What moved in which direction, what waits, and how far both sides are known. */
export function TwoWayNow() {
  const { id, state, twoWay, fromName, toName, completeUpTo, definition } = useOutletContext<TwoWayPipeline>()
  const written = useQuery({
    queryKey: ['two-way', id, 'written', twoWay?.last?.endedAt],
    queryFn: () => api<TwoWayTrail[]>('GET', `/pipelines/${id}/written`),
    enabled: state !== 'Draft',
    placeholderData: before => before,
  })
  if (state === 'Draft')
    return (
      <p className="max-w-xl py-4 text-ink-2">
        Nothing is in step yet. Go on with the setup: it shows what the first pass would do, before anything
        is written on either side.
      </p>
    )
  const {
    pairs = null,
    held = null,
    asleep = null,
    waiting = null,
    done,
    last = null,
    doing = null,
  } = twoWay ?? {}
  const figure = (value: number | null) => (value === null ? 'unknown' : count(value))
  return (
    <div className="py-3">
      <p className="text-[17px]" role="status">
        {completeUpTo ? (
          <>
            In step up to <b title={moment(completeUpTo)}>{clock(completeUpTo)}</b>
            {held ? (
              <>
                , but for{' '}
                <Link className="text-buoy underline" to="undecided">
                  {plural(held, 'pair that waits', 'pairs that wait')} for a person
                </Link>
              </>
            ) : (
              '.'
            )}
          </>
        ) : state === 'Following' ? (
          `Reads both sides${doing ? `, ${doing}` : ''}; how far they are in step is not known yet.`
        ) : (
          'How far they are in step is not known.'
        )}
        {last && (
          <span className="text-[13px] text-ink-2">
            {' '}
            The last pass took {duration((Date.parse(last.endedAt) - Date.parse(last.beganAt)) / 1000)}; the
            next comes within {definition.every ?? 10} s.
          </span>
        )}
      </p>
      <dl className="flex flex-wrap gap-y-2 py-3">
        <Figure label="pairs" value={figure(pairs)} />
        <Figure label="held" value={<span className={held ? 'text-buoy' : ''}>{figure(held)}</span>} />
        <Figure
          label="waiting"
          value={figure(waiting)}
          title="What they link to is not on the other side yet."
        />
        <Figure
          label="asleep"
          value={figure(asleep)}
          title="They have left the scope, and are as they were."
        />
        {done &&
          (['a', 'b'] as const).map(side => (
            <Figure
              key={side}
              label={`written in ${side === 'a' ? fromName : toName}`}
              value={count(done[side].created + done[side].changed + done[side].deleted)}
              title={`${count(done[side].created)} made, ${count(done[side].changed)} changed, ${count(done[side].deleted)} deleted, since the engine took it up`}
            />
          ))}
      </dl>
      <h2 className="mt-2 text-[14px]">Written last</h2>
      {written.data && written.data.length > 0 ? (
        <TrailTable
          trail={written.data.slice(0, SHOWN)}
          called={{ a: fromName, b: toName }}
          pipeline={id}
          label="Written last"
        />
      ) : (
        <p className="py-2 text-ink-2">Nothing yet: what was the same on both sides was left as it is.</p>
      )}
    </div>
  )
}
