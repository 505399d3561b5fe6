import type { VersionAnswer } from '@tide/core/api/files'
import { diffLines } from 'diff'
import { useVersions } from '../api/queries.ts'
import { moment } from '../format.ts'
import { ButtonLink } from '../parts/Button.tsx'
import { ErrorNotice } from '../parts/Notice.tsx'

/** What the pipeline has run by, each with what was different about it. */
export function Versions({ pipeline, newest }: { pipeline: string; newest: string }) {
  const { data: versions, error } = useVersions(pipeline, newest)
  if (error) return <ErrorNotice error={error} />
  if (!versions || versions.length === 0) return <>None yet; the first comes with a start.</>
  return (
    <ol>
      {versions.map((version, i) => (
        <li key={version.number} className="flex items-baseline gap-3 py-0.5">
          <b className="w-5 text-right">{version.number}</b>
          <details className="min-w-0 flex-1">
            <summary>
              {moment(version.at)}
              <span className="text-ink-2">
                {i === 0 && ', the present one'}
                {i === versions.length - 1 && ', the first that is known'}
              </span>
            </summary>
            <Difference before={versions[i + 1]} version={version} />
          </details>
          {i > 0 && (
            <ButtonLink look="text" to={`/pipelines/${pipeline}/change?version=${version.number}`}>
              Take back version {version.number}
            </ButtonLink>
          )}
        </li>
      ))}
    </ol>
  )
}

/** As files, line by line; of the first there is only what it says. */
function Difference({ before, version }: { before: VersionAnswer | undefined; version: VersionAnswer }) {
  const parts = before
    ? diffLines(before.text, version.text)
    : [{ value: version.text, added: false, removed: false }]
  return (
    <pre className="my-1 overflow-x-auto border-l-2 border-line-2 font-mono text-[11px] leading-4">
      {parts.flatMap(({ value, added, removed }, part) =>
        value
          .replace(/\n$/, '')
          .split('\n')
          .map((line, i) => (
            <span
              key={`${part} ${i}`}
              className={`block px-2 ${added ? 'bg-paper-3 font-semibold' : removed ? 'text-ink-2 line-through' : 'text-ink-2'}`}
            >
              {added ? '+ ' : removed ? '− ' : '  '}
              {line}
            </span>
          )),
      )}
    </pre>
  )
}
