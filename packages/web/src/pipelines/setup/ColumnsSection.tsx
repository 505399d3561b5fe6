import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { Dataset } from '@tide/core/records/dataset'
import { plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { ColumnRules } from './ColumnRules.tsx'
import { Rehearsed } from './Rehearsed.tsx'
import { Section, type Turning } from './Section.tsx'

interface ColumnsSectionProps extends Turning {
  definition: ReplicateDefinition
  tables: readonly Dataset[]
  change: (part: Partial<ReplicateDefinition>) => void
}

/** What becomes of columns, and real rows that it has become of. */
export function ColumnsSection({ definition, tables, change, ...turning }: ColumnsSectionProps) {
  const rules = definition.columns ?? []
  return (
    <Section
      {...turning}
      name="columns"
      title="Columns"
      says={rules.length === 0 ? 'all, as they are' : plural(rules.length, 'column rule')}
    >
      <ColumnRules tables={tables} rules={rules} change={columns => change({ columns })} />
      <p className="mb-2 flex items-baseline gap-4 text-[13px]">
        <TextButton
          className="whitespace-nowrap"
          onClick={() => change({ columns: [...rules, { like: '*.', does: { leave: 'out' } }] })}
        >
          Add a rule
        </TextButton>
        <span className="text-ink-3">
          Patterns are over schema.table.column, for added columns over schema.table; the last that matches a
          column decides.
        </span>
      </p>
      <Rehearsed definition={definition} tables={tables} />
    </Section>
  )
}
