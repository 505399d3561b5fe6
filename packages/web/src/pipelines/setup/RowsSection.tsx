import type { Definition } from '@tide/core/definition/definition'
import type { Dataset } from '@tide/core/records/dataset'
import { plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { Rehearsed } from './Rehearsed.tsx'
import { Scopes } from './Scopes.tsx'
import { Section, type Turning } from './Section.tsx'

interface RowsSectionProps extends Turning {
  definition: Definition
  /** Those that take part. */
  datasets: readonly Dataset[]
  change: (part: Partial<Definition>) => void
}

const DELETES = [
  { value: 'remove', title: 'go at the target, too' },
  { value: 'mark', title: 'stay, with the time in a column' },
  { value: 'keep', title: 'stay as they were' },
]

/** Which rows take part, and what becomes of those that the source deletes. */
export function RowsSection({ definition, datasets, change, ...turning }: RowsSectionProps) {
  const { scopes = [], deletes = 'remove' } = definition
  const kind = typeof deletes === 'object' ? 'mark' : deletes
  const columns = [...new Set(datasets.flatMap(({ fields }) => fields.map(({ name }) => name)))].sort()
  const begin = datasets[0]
  const says = [
    scopes.length === 0 ? 'all rows' : `rows in ${plural(scopes.length, 'scope')}`,
    `deleted ones ${DELETES.find(({ value }) => value === kind)!.title}`,
  ].join('; ')
  return (
    <Section {...turning} name="rows" title="Rows" says={says}>
      <Scopes scopes={scopes} columns={columns} tables={datasets} change={next => change({ scopes: next })} />
      <p className="mb-2 flex items-baseline gap-4 text-[13px]">
        <TextButton
          onClick={() =>
            change({
              scopes: [
                ...scopes,
                {
                  like: begin ? `${begin.namespace}.${begin.name}` : '*',
                  where: { all: [{ column: begin?.key[0] ?? 'id', isNull: false }] },
                },
              ],
            })
          }
        >
          Add a scope
        </TextButton>
        <span className="text-ink-3">
          Of a table that several scopes match, the rows take part that all of them take in.
        </span>
      </p>
      <p className="flex items-baseline gap-2 text-[13px]">
        <span>Rows that the source deletes</span>
        <InlineSelect
          label="Deleted rows"
          value={kind}
          options={DELETES}
          onChange={event => {
            const next = event.target.value
            change({ deletes: next === 'mark' ? { mark: 'deleted_at' } : (next as 'remove' | 'keep') })
          }}
        />
        {typeof deletes === 'object' && (
          <InlineField
            label="Column of the mark"
            value={deletes.mark}
            onChange={event => change({ deletes: { mark: event.target.value } })}
          />
        )}
      </p>
      <Rehearsed definition={definition} tables={datasets} />
    </Section>
  )
}
