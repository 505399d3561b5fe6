import {
  PARAMETER_TYPES,
  parametersIn,
  type QueryParameter,
  type Quoting,
} from '@tide/core/definition/query-parameters'
import { InlineField, InlineSelect } from '../parts/Field.tsx'

/** What the SQL leaves open, with what is said of each already. */
export function parametersOf(
  sql: string,
  said: readonly QueryParameter[],
  quoting: Quoting,
): QueryParameter[] {
  return parametersIn(sql, quoting).map(
    name => said.find(one => one.name === name) ?? { name, type: 'text', preset: '' },
  )
}

interface ParametersProps {
  parameters: readonly QueryParameter[]
  change: (parameters: QueryParameter[]) => void
  /** Who asks, and with which values of its own. */
  here?:
    | { title: string; values: Record<string, string>; change: (values: Record<string, string>) => void }
    | undefined
}

/** Of each parameter in braces its type, and its value where whoever asks gives none. */
export function Parameters({ parameters, change, here }: ParametersProps) {
  if (parameters.length === 0) return null
  const put = (name: string, part: Partial<QueryParameter>) =>
    change(parameters.map(one => (one.name === name ? { ...one, ...part } : one)))
  return (
    <ul aria-label="Parameters" className="mt-1">
      {parameters.map(({ name, type, preset }) => (
        <li key={name} className="flex items-baseline gap-3 py-0.5 text-[13px]">
          <span className="w-36 shrink-0 truncate font-mono text-[12px]" title={name}>{`{${name}}`}</span>
          <InlineSelect
            label={`Type of ${name}`}
            value={type}
            options={PARAMETER_TYPES.map(value => ({ value, title: value }))}
            onChange={({ target }) => put(name, { type: target.value as QueryParameter['type'] })}
          />
          <span className="whitespace-nowrap text-ink-2">by default</span>
          <InlineField
            label={`Preset of ${name}`}
            className="w-28"
            value={preset}
            onChange={({ target }) => put(name, { preset: target.value })}
          />
          {here && (
            <>
              <span className="text-ink-2">{here.title}</span>
              <InlineField
                label={`Value of ${name} ${here.title}`}
                placeholder="the same"
                className="w-28"
                value={here.values[name] ?? ''}
                onChange={({ target }) => {
                  const others = Object.entries(here.values).filter(([one]) => one !== name)
                  const now = target.value === '' ? others : [...others, [name, target.value] as const]
                  here.change(Object.fromEntries(now))
                }}
              />
            </>
          )}
        </li>
      ))}
    </ul>
  )
}
