import { printName } from '@tide/core/records/dataset'
import type { FieldPair } from '@tide/core/definition/send'
import { useOutletContext } from 'react-router'
import { ButtonLink } from '../parts/Button.tsx'
import { Versions } from '../pipelines/Versions.tsx'
import type { SendingStatus } from './status.ts'
import { useSavedQueries } from './setup/WhatSection.tsx'

/** What a pipeline that sends is set up to do, for reading. */
export function SendSetupSection() {
  const pipeline = useOutletContext<SendingStatus>()
  const { id, definition, fromName, toName, state } = pipeline
  const { what, key, object, meets, may, fields, log } = definition
  const queries = useSavedQueries().data ?? []
  const query = what && 'query' in what ? queries.find(one => one.id === what.query) : undefined
  return (
    <div className="max-w-3xl">
      <dl className="grid grid-cols-[130px_minmax(0,1fr)] [&>*]:border-b [&>*]:border-line [&>*]:py-2.5 [&>dt]:font-semibold">
        <dt>What</dt>
        <dd>
          {!what
            ? 'not said'
            : 'table' in what
              ? printName(what.table)
              : 'sql' in what
                ? 'a query of its own'
                : `“${query?.name ?? what.query}”`}{' '}
          of {fromName || 'no connection'}, by {key.join(', ') || 'no row key'}
          {(query || (what && 'sql' in what)) && (
            <pre className="mt-1 overflow-auto bg-paper-2 p-2 font-mono text-[12px]">
              {query?.sql ?? (what as { sql: string }).sql}
            </pre>
          )}
          {query && query.parameters.length > 0 && (
            <p className="mt-1 font-mono text-[12px]">
              {query.parameters
                .map(
                  ({ name, preset }) =>
                    `{${name}} = ${(what as { values?: Record<string, string> }).values?.[name] ?? preset}`,
                )
                .join(', ')}
            </p>
          )}
        </dd>
        <dt>Where</dt>
        <dd>
          {object || 'no object'} of {toName || 'no app'}
        </dd>
        <dt>How they meet</dt>
        <dd>
          {meets.length === 0
            ? 'by our own record of what was sent'
            : meets.map(({ column, field, alike }) => `${column} is ${field} ${alike}`).join(', else ')}
        </dd>
        <dt>What may happen</dt>
        <dd>{may}</dd>
        {log && (
          <>
            <dt>Log</dt>
            <dd>
              {printName(log)} of {fromName} says what was sent
            </dd>
          </>
        )}
        <dt>Fields</dt>
        <dd>
          <ul className="font-mono text-[12px]">
            {fields.map(pair => (
              <li key={pair.field}>{pairSaid(pair)}</li>
            ))}
          </ul>
        </dd>
      </dl>
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

function pairSaid({ field, from, empty, once, by }: FieldPair): string {
  const [[kind, text]] = Object.entries(from) as [[string, string]]
  const made = kind === 'column' ? text : `${kind} ${text}`
  return [
    `${field} ← ${made}`,
    by && `found by ${by}`,
    empty === 'clear' && 'emptied by a null',
    once && 'if it is new',
  ]
    .filter(Boolean)
    .join(', ')
}
