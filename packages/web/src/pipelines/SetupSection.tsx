import type { PipelineStatus } from '@tide/core/api/pipelines'
import { isChangeable } from '@tide/core/definition/definition'
import { printName } from '@tide/core/records/dataset'
import { useOutletContext } from 'react-router'
import { moment, plural } from '../format.ts'
import { ButtonLink } from '../parts/Button.tsx'
import { canTakeMore } from '../parts/StateWord.tsx'

/** What a pipeline is set up to do, for reading. */
export function SetupSection() {
  const pipeline = useOutletContext<PipelineStatus>()
  const { id, definition, state, fromName, toName, lanes, startedAt } = pipeline
  return (
    <div className="max-w-3xl">
      <dl className="grid grid-cols-[110px_minmax(0,1fr)] [&>*]:border-b [&>*]:border-line [&>*]:py-2.5 [&>dt]:font-semibold">
        <dt>From</dt>
        <dd>{fromName || 'not chosen'}</dd>
        <dt>To</dt>
        <dd>
          {toName || 'not chosen'}
          {definition.targetSchema && `, schema ${definition.targetSchema}`}
        </dd>
        <dt>Tables</dt>
        <dd>
          {plural(definition.tables.length, 'table')}
          <ul className="mt-1 font-mono text-[12px] text-ink-2">
            {definition.tables.map(table => {
              const lane = lanes.find(
                ({ source }) => source.namespace === table.namespace && source.name === table.name,
              )
              return (
                <li key={printName(table)}>
                  {printName(table)}
                  {lane && ` → ${printName(lane.target)}`}
                </li>
              )
            })}
          </ul>
        </dd>
        <dt>Start</dt>
        <dd>
          Copies what is there, then follows every change.
          {startedAt && ` Started ${moment(startedAt)}.`}
        </dd>
      </dl>
      <p className="mt-4 text-ink-2">
        {isChangeable(state) ? (
          <ButtonLink to={`/pipelines/${id}/change`}>Change the setup</ButtonLink>
        ) : canTakeMore(pipeline) ? (
          <>
            <ButtonLink to={`/pipelines/${id}/change`}>Add tables</ButtonLink> The others go on meanwhile. To
            change anything else, stop the pipeline.
          </>
        ) : (
          'Stop the pipeline to change its setup.'
        )}
      </p>
    </div>
  )
}
