import type { ConnectionInfo } from '@tide/core/api/connections'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { There } from '@tide/core/definition/lane-rule'
import { isLake } from '@tide/core/definition/files'
import type { Dataset } from '@tide/core/records/dataset'
import { FilesFields } from './FilesFields.tsx'
import { InlineSelect, TextField } from '../../parts/Field.tsx'
import { ROWS_THERE, STRUCTURES } from './there.ts'
import { Pick } from './Pick.tsx'
import { Section, type Turning } from './Section.tsx'

interface ToSectionProps extends Turning {
  definition: ReplicateDefinition
  to: ConnectionInfo | undefined
  connections: ConnectionInfo[]
  /** One of the tables that take part. */
  example: Dataset | undefined
  /** The pipeline runs, and stays with its target. */
  runs: boolean
  change: (part: Partial<ReplicateDefinition>) => void
}

export function ToSection({
  definition,
  to,
  connections,
  example,
  runs,
  change,
  ...turning
}: ToSectionProps) {
  const { there = {} } = definition
  const answer = (part: { rows?: There['rows'] | 'ask'; structure?: There['structure'] }) => {
    const { rows, structure } = { ...there, ...part }
    const next: There = {
      ...(rows === undefined || rows === 'ask' ? {} : { rows }),
      ...(structure === undefined || structure === 'as it is' ? {} : { structure }),
    }
    change({ there: Object.keys(next).length > 0 ? next : undefined })
  }
  return (
    <Section
      {...turning}
      name="to"
      title="To"
      says={
        to
          ? `${to.name}${definition.targetSchema ? `, schema ${definition.targetSchema}` : ', each table in a schema named after its own'}`
          : 'not chosen yet'
      }
    >
      {!runs && (
        <Pick
          label="Target"
          connections={connections}
          chosen={definition.to}
          choose={chosen =>
            change({
              to: chosen,
              files: isLake(connections.find(({ id }) => id === chosen)?.kind)
                ? (definition.files ?? {})
                : undefined,
            })
          }
        />
      )}
      <div className="mt-3 max-w-72">
        <TextField
          label="Schema at the target"
          mono
          value={definition.targetSchema}
          onChange={event => change({ targetSchema: event.target.value })}
          placeholder="named after its own"
          hint="Takes all the tables; empty, each goes into a schema named after its own. What is missing is made."
        />
      </div>
      {isLake(to?.kind) && (
        <FilesFields
          files={definition.files}
          table={`${definition.targetSchema || (example?.namespace ?? 'nursery')}.${example?.name ?? 'readings'}`}
          change={files => change({ files })}
        />
      )}
      {!isLake(to?.kind) && (
        <div className="mt-3 text-[13px]">
          <p className="mb-1 font-semibold">Tables that are there already</p>
          <label className="mb-1 flex items-baseline gap-2">
            <span className="w-24">Their rows</span>
            <InlineSelect
              label="Rows that are there already"
              value={there.rows ?? 'ask'}
              options={[{ value: 'ask', title: 'must be decided on' }, ...ROWS_THERE]}
              onChange={event => answer({ rows: event.target.value as There['rows'] })}
            />
          </label>
          <label className="flex items-baseline gap-2">
            <span className="w-24">Their structure</span>
            <InlineSelect
              label="Structure that is there already"
              value={there.structure ?? 'as it is'}
              options={STRUCTURES}
              onChange={event => answer({ structure: event.target.value as There['structure'] })}
            />
          </label>
          <p className="mt-1 text-ink-3">
            What this pipeline has made before is replaced, unless something is said here.
          </p>
        </div>
      )}
    </Section>
  )
}
