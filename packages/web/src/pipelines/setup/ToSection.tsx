import type { ConnectionInfo } from '@tide/core/api/connections'
import type { Definition } from '@tide/core/definition/definition'
import { TextField } from '../../parts/Field.tsx'
import { Pick } from './Pick.tsx'
import { Section, type Turning } from './Section.tsx'

interface ToSectionProps extends Turning {
  definition: Definition
  to: ConnectionInfo | undefined
  connections: ConnectionInfo[]
  /** The pipeline runs, and stays with its target. */
  runs: boolean
  change: (part: Partial<Definition>) => void
}

export function ToSection({ definition, to, connections, runs, change, ...turning }: ToSectionProps) {
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
          choose={chosen => change({ to: chosen })}
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
    </Section>
  )
}
