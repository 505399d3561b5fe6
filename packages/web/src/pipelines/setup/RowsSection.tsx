import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { Dataset } from '@tide/core/records/dataset'
import { plural } from '../../format.ts'
import { TextButton } from '../../parts/Button.tsx'
import { DeletesFields, deletesSaid } from './DeletesFields.tsx'
import { LaneRules } from './LaneRules.tsx'
import { Rehearsed } from './Rehearsed.tsx'
import { Scopes } from './Scopes.tsx'
import { Section, type Turning } from './Section.tsx'

interface RowsSectionProps extends Turning {
  definition: ReplicateDefinition
  /** Those that take part. */
  datasets: readonly Dataset[]
  change: (part: Partial<ReplicateDefinition>) => void
}

/** Which rows take part, and what becomes of those that the source deletes. */
export function RowsSection({ definition, datasets, change, ...turning }: RowsSectionProps) {
  const { scopes = [], lanes = [], deletes = 'remove', history = false } = definition
  const columns = [...new Set(datasets.flatMap(({ fields }) => fields.map(({ name }) => name)))].sort()
  const begin = datasets[0]
  const says = [
    scopes.length === 0 ? 'all rows' : `rows in ${plural(scopes.length, 'scope')}`,
    ...(definition.does === 'archive' ? [] : [`deleted ones ${deletesSaid(deletes)}`]),
    ...(history ? ['every change is kept'] : []),
    ...(lanes.length > 0 ? [plural(lanes.length, 'lane rule')] : []),
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
          Of a table that several scopes match, the rows take part that all of them take in. Dates may be told
          from now: now - 90 days, today.
        </span>
      </p>
      {definition.does !== 'archive' && (
        <p className="mb-2 flex items-baseline gap-2 text-[13px]">
          <span>Rows that the source deletes</span>
          <DeletesFields label="Deleted rows" deletes={deletes} change={next => change({ deletes: next })} />
        </p>
      )}
      <label className="mb-2 flex items-baseline gap-2 text-[13px]">
        <input
          type="checkbox"
          className="relative top-0.5"
          checked={history}
          onChange={event => change({ history: event.target.checked ? true : undefined })}
        />
        <span>
          Keep every change in a history table beside each
          <span className="block text-[12px] text-ink-3">
            A row of it says what a row was before and after, when that was committed and by which
            transaction.
          </span>
        </span>
      </label>
      <LaneRules rules={lanes} change={next => change({ lanes: next })} />
      <p className="mb-2 flex items-baseline gap-4 text-[13px]">
        <TextButton
          className="whitespace-nowrap"
          onClick={() =>
            change({
              lanes: [
                ...lanes,
                { like: begin ? `${begin.namespace}.${begin.name}` : '*', does: { deletes: 'keep' } },
              ],
            })
          }
        >
          Add a lane rule
        </TextButton>
        <span className="text-ink-3">
          For what is to be otherwise for some tables; the last that matches decides.
        </span>
      </p>
      <Rehearsed definition={definition} tables={datasets} />
    </Section>
  )
}
