import type { ConnectionInfo } from '@tide/core/api/connections'
import type { SendDefinition } from '@tide/core/definition/send'
import { InlineField } from '../../parts/Field.tsx'

interface SentLogChoiceProps {
  definition: SendDefinition
  /** undefined: no table can be made there. */
  source: ConnectionInfo | undefined
  change: (part: Partial<SendDefinition>) => void
}

/** Whether a table at the source says what was sent. */
export function SentLogChoice({ definition, source, change }: SentLogChoiceProps) {
  const { log, object } = definition
  if (!source && !log) return null
  return (
    <div className="mt-3 text-[13px]">
      <label className="flex items-baseline gap-2">
        <input
          type="checkbox"
          className="relative top-0.5"
          checked={log !== undefined}
          onChange={({ target }) =>
            change({ log: target.checked ? { namespace: 'sent', name: object || 'records' } : undefined })
          }
        />
        A table of {source?.name ?? 'the source'} says what was sent, and what was refused
      </label>
      {log && (
        <p className="mt-1 ml-6 text-ink-2">
          in schema{' '}
          <InlineField
            label="Schema of the log"
            className="w-32"
            value={log.namespace}
            onChange={({ target }) => change({ log: { ...log, namespace: target.value } })}
          />{' '}
          table{' '}
          <InlineField
            label="Table of the log"
            className="w-44"
            value={log.name}
            onChange={({ target }) => change({ log: { ...log, name: target.value } })}
          />
          , made when the pipeline is started
        </p>
      )}
    </div>
  )
}
