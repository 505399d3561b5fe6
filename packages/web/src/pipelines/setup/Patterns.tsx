import { decidedBy } from '@tide/core/definition/choose'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { Dataset } from '@tide/core/records/dataset'
import { plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { OrderedList } from '../../parts/OrderedList.tsx'

interface PatternsProps {
  definition: ReplicateDefinition
  datasets: readonly Dataset[]
  change: (part: Partial<ReplicateDefinition>) => void
}

/** Patterns that take tables in or leave them out, each with the number of tables it decides. */
export function Patterns({ definition, datasets, change }: PatternsProps) {
  const patterns = definition.patterns ?? []
  const decided = decidedBy(definition, datasets)
  return (
    <>
      <OrderedList
        label="Patterns"
        one="pattern"
        items={patterns}
        change={next => change({ patterns: next })}
        line={(pattern, number, set, buttons) => (
          <div className="flex items-baseline gap-2">
            <b className="w-4">{number}</b>
            <InlineSelect
              label={`Deed of pattern ${number}`}
              value={pattern.take}
              options={[
                { value: 'in', title: 'take in' },
                { value: 'out', title: 'leave out' },
              ]}
              onChange={event => set({ ...pattern, take: event.target.value as 'in' | 'out' })}
            />
            <span className="text-ink-2">like</span>
            <InlineField
              label={`Pattern ${number}`}
              className="min-w-0 flex-1"
              value={pattern.like}
              onChange={event => set({ ...pattern, like: event.target.value })}
            />
            <span className="whitespace-nowrap text-ink-2">
              decides {plural(decided[number - 1] ?? 0, 'table')}
            </span>
            {buttons}
          </div>
        )}
      />
      <p className="mb-2 flex items-baseline gap-4 text-[13px]">
        <TextButton
          onClick={() =>
            change({ patterns: [...patterns, { take: patterns.length === 0 ? 'in' : 'out', like: '*' }] })
          }
        >
          Add a pattern
        </TextButton>
        {patterns.length > 0 && (
          <label className="text-ink-2">
            Tables that come later and match are{' '}
            <InlineSelect
              label="Tables that come later"
              value={definition.later ?? 'report'}
              options={[
                { value: 'report', title: 'reported' },
                { value: 'take in', title: 'taken in' },
              ]}
              onChange={event => change({ later: event.target.value as 'take in' | 'report' })}
            />
          </label>
        )}
        {patterns.length === 0 && (
          <span className="text-ink-2">
            or tick; in patterns over schema.table, * stands for any letters, and the last that matches
            decides
          </span>
        )}
      </p>
    </>
  )
}
