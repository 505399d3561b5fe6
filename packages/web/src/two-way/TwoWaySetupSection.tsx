import { laneName } from '@tide/core/definition/two-way'
import { printCondition } from '@tide/core/scope/condition'
import { useOutletContext } from 'react-router'
import { ButtonLink } from '../parts/Button.tsx'
import { Versions } from '../pipelines/Versions.tsx'
import { directionSaid, joinName, originationSaid, ruleSaid } from './said.ts'
import type { TwoWayPipeline } from './status.ts'

/** What a pipeline that keeps two places in step is set up to do, for reading. */
export function TwoWaySetupSection() {
  const pipeline = useOutletContext<TwoWayPipeline>()
  const { id, definition, fromName, toName, state } = pipeline
  const called = { a: fromName || 'side A', b: toName || 'side B' }
  return (
    <div className="max-w-3xl">
      {definition.lanes.map(lane => (
        <dl
          key={laneName(lane)}
          className="mb-3 grid grid-cols-[130px_minmax(0,1fr)] [&>*]:border-b [&>*]:border-line [&>*]:py-2 [&>dt]:font-semibold"
        >
          <dt>Places</dt>
          <dd>
            {lane.a} of {called.a}, {lane.b} of {called.b}
          </dd>
          <dt>Who</dt>
          <dd>
            {originationSaid(lane, called)}
            {(['a', 'b'] as const).map(
              side =>
                lane.scope?.[side] && (
                  <div key={side} className="font-mono text-[12px]">
                    {called[side]}: {printCondition(lane.scope[side])}
                  </div>
                ),
            )}
          </dd>
          <dt>Fields</dt>
          <dd>
            <ul className="text-[13px]">
              {lane.fields.map(join => (
                <li key={joinName(join)}>
                  <span className="font-mono text-[12px]">{joinName(join)}</span>{' '}
                  {directionSaid(join, called)}
                  {ruleSaid(join, called) && <span className="text-ink-2">, {ruleSaid(join, called)}</span>}
                </li>
              ))}
            </ul>
          </dd>
        </dl>
      ))}
      <p className="py-3">
        <ButtonLink to={`/pipelines/${id}/change`}>
          {state === 'Draft' ? 'Go on with the setup' : 'Look at the setup'}
        </ButtonLink>
      </p>
      <h2 className="text-[14px]">Versions</h2>
      <Versions pipeline={id} newest={pipeline.startedAt ?? ''} />
    </div>
  )
}
