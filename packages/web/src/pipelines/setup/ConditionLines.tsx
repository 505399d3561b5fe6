import type { Condition } from '@tide/core/scope/condition'
import type { ReactNode } from 'react'
import { TextButton } from '../../parts/Button.tsx'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import {
  conditionOf,
  singleOf,
  testOf,
  TESTS,
  valueOf,
  type ConditionList,
  type Single,
  type Test,
} from './conditions.ts'

interface ConditionLinesProps {
  /** Whose conditions they are, for those who hear the page. */
  what: string
  list: ConditionList
  /** Of the list of columns to choose from. */
  listId: string
  /** The last one may go, too. */
  mayBeEmpty?: boolean
  change: (where: Condition) => void
  children?: ReactNode
}

/** Conditions of which all or any must hold, one a line. */
export function ConditionLines({ what, list, listId, mayBeEmpty, change, children }: ConditionLinesProps) {
  const { join, parts } = list
  const put = (next: Single[]) => change(conditionOf({ join, parts: next }))
  return (
    <div className="mt-1 space-y-1 pl-6">
      {parts.map((part, i) => (
        <div key={i} className="flex items-baseline gap-2">
          {i === 0 ? (
            <span className="w-14 text-ink-2">those of</span>
          ) : (
            <InlineSelect
              label={`How the conditions of ${what} are joined`}
              className="w-14"
              value={join}
              options={[
                { value: 'all', title: 'and' },
                { value: 'any', title: 'or' },
              ]}
              onChange={event => change(conditionOf({ join: event.target.value as 'all' | 'any', parts }))}
            />
          )}
          <SingleFields
            what={`condition ${i + 1} of ${what}`}
            single={part}
            listId={listId}
            change={next => put(parts.map((other, n) => (n === i ? next : other)))}
          />
          {(mayBeEmpty || parts.length > 1) && (
            <TextButton
              aria-label={`Remove condition ${i + 1} of ${what}`}
              onClick={() => put(parts.filter((_, n) => n !== i))}
            >
              Remove
            </TextButton>
          )}
        </div>
      ))}
      <TextButton
        onClick={() => put([...parts, { column: parts.at(-1)?.column ?? 'id', op: 'equals', value: '' }])}
      >
        Add a condition
      </TextButton>
      {children}
    </div>
  )
}

interface SingleFieldsProps {
  what: string
  single: Single
  listId: string
  change: (single: Single) => void
}

function SingleFields({ what, single, listId, change }: SingleFieldsProps) {
  const [test, value] = [testOf(single), valueOf(single)]
  return (
    <>
      <InlineField
        label={`Column of ${what}`}
        className="w-36 min-w-0"
        list={listId}
        value={single.column}
        onChange={event => change({ ...single, column: event.target.value })}
      />
      <InlineSelect
        label={`Test of ${what}`}
        value={test}
        options={TESTS.map(one => ({ value: one, title: one }))}
        onChange={event => change(singleOf(single.column, event.target.value as Test, value ?? ''))}
      />
      {value !== undefined && (
        <InlineField
          label={`Value of ${what}`}
          className="w-36 min-w-0 flex-1"
          value={value}
          onChange={event => change(singleOf(single.column, test, event.target.value))}
        />
      )}
    </>
  )
}
