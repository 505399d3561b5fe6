import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import { isChangeable } from '@tide/core/definition/definition'
import { printName } from '@tide/core/records/dataset'
import { printCondition } from '@tide/core/scope/condition'
import { printColumnDeed } from '@tide/core/shape/column-rule'
import { useOutletContext } from 'react-router'
import { moment, plural } from '../format.ts'
import { ButtonLink } from '../parts/Button.tsx'
import { printDeed, printWhich } from '@tide/core/naming/rule'
import { doesSaid } from './setup/StartSection.tsx'
import { canBeChanged } from '../parts/StateWord.tsx'
import { deletesSaid } from './setup/DeletesFields.tsx'
import { filesSaid } from './setup/filesSaid.ts'
import { laneRuleSaid, thereSaid } from './setup/there.ts'
import { Versions } from './Versions.tsx'
import { tablesSaid } from './tablesSaid.ts'

/** What a pipeline is set up to do, for reading. */
export function SetupSection() {
  const pipeline = useOutletContext<ReplicationStatus>()
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
          {tablesSaid(pipeline)}
          {(definition.bundles ?? []).map(({ name, main, with: others }) => (
            <p key={name} className="mt-1 text-[13px] text-ink-2">
              The bundle <b className="text-ink">{name}</b>:{' '}
              {[main, ...others.map(({ table }) => table)].map(printName).join(', ')}
            </p>
          ))}
          {(definition.patterns?.length ?? 0) > 0 && (
            <ol className="mt-1 text-[13px] text-ink-2">
              {definition.patterns!.map(({ take, like }, i) => (
                <li key={i}>
                  {i + 1}. {take === 'in' ? 'take in' : 'leave out'}{' '}
                  <span className="font-mono text-[12px]">{like}</span>
                </li>
              ))}
            </ol>
          )}
          <ul className="mt-1 font-mono text-[12px] text-ink-2">
            {lanes.length > 0
              ? lanes.map(({ source, target }) => (
                  <li key={printName(source)}>
                    {printName(source)} → {printName(target)}
                  </li>
                ))
              : definition.tables.map(table => <li key={printName(table)}>{printName(table)}</li>)}
          </ul>
        </dd>
        <dt>Names</dt>
        <dd>
          {(definition.names?.length ?? 0) === 0
            ? 'As they are at the source.'
            : plural(definition.names!.length, 'naming rule')}
          <ol className="mt-1 text-[13px] text-ink-2">
            {definition.names?.map((rule, i) => (
              <li key={i}>
                {i + 1}. {printWhich(rule)}: {printDeed(rule.does)}
              </li>
            ))}
          </ol>
        </dd>
        <dt>Columns</dt>
        <dd>
          {(definition.columns?.length ?? 0) === 0
            ? 'All, as they are.'
            : plural(definition.columns!.length, 'column rule')}
          <ol className="mt-1 text-[13px] text-ink-2">
            {definition.columns?.map(({ like, does }, i) => (
              <li key={i}>
                {i + 1}. <span className="font-mono text-[12px]">{like}</span>: {printColumnDeed(does)}
              </li>
            ))}
          </ol>
        </dd>
        <dt>Rows</dt>
        <dd>
          {(definition.scopes?.length ?? 0) === 0 ? 'All.' : plural(definition.scopes!.length, 'scope')}{' '}
          Deleted ones {deletesSaid(definition.deletes ?? 'remove')}.{' '}
          {definition.history && 'Every change is kept in a table beside each.'}
          <ol className="mt-1 text-[13px] text-ink-2">
            {definition.scopes?.map(({ like, where }, i) => (
              <li key={i}>
                {i + 1}. <span className="font-mono text-[12px]">{like}</span>: {printCondition(where)}
              </li>
            ))}
          </ol>
        </dd>
        {(definition.there !== undefined || (definition.lanes?.length ?? 0) > 0) && (
          <>
            <dt>Already there</dt>
            <dd>
              {thereSaid(definition.there ?? {})}
              <ol className="mt-1 text-[13px] text-ink-2">
                {definition.lanes?.map(({ like, does }, i) => (
                  <li key={i}>
                    {i + 1}. <span className="font-mono text-[12px]">{like}</span>: {laneRuleSaid(does)}
                  </li>
                ))}
              </ol>
            </dd>
          </>
        )}
        {definition.files && (
          <>
            <dt>Files</dt>
            <dd>{filesSaid(definition.files)}.</dd>
          </>
        )}
        <dt>Start</dt>
        <dd>
          {doesSaid(definition.does)}
          {startedAt && ` Started ${moment(startedAt)}.`}
        </dd>
        <dt>Versions</dt>
        <dd>
          <Versions pipeline={id} newest={canonicalJson(definition)} />
        </dd>
      </dl>
      <p className="mt-4 text-ink-2">
        {isChangeable(state) ? (
          <ButtonLink to={`/pipelines/${id}/change`}>Change the setup</ButtonLink>
        ) : canBeChanged(pipeline) ? (
          <>
            <ButtonLink to={`/pipelines/${id}/change`}>Change the setup</ButtonLink> What is not changed goes
            on meanwhile.
          </>
        ) : (
          'The setup can be changed when it follows, is paused or is stopped.'
        )}
      </p>
    </div>
  )
}
