import type { ReplicateDefinition } from '@tide/core/definition/definition'
import { InlineField } from '../../parts/Field.tsx'

const PREFIX = 'tide'

interface StatusFieldsProps {
  status: ReplicateDefinition['status']
  change: (status: ReplicateDefinition['status']) => void
}

/** Whether the target itself says how the pipeline stands. */
export function StatusFields({ status, change }: StatusFieldsProps) {
  return (
    <div className="mt-3 text-[13px]">
      <p className="mb-1 font-semibold">For those who query the target</p>
      <label className="flex items-baseline gap-2">
        <input
          type="checkbox"
          className="relative top-0.5"
          checked={status !== undefined}
          onChange={event => change(event.target.checked ? PREFIX : undefined)}
        />
        <span>
          Keep tables there that say how the pipeline stands
          <span className="block text-[12px] text-ink-3">
            State and lag of each lane, up to when it is complete, runs, and a history of states; written with
            the rows, at most once a second.
          </span>
        </span>
      </label>
      {status !== undefined && (
        <p className="mt-1 ml-6 flex items-baseline gap-2">
          <span>Their names begin with</span>
          <InlineField
            label="Beginning of their names"
            className="w-28"
            value={status}
            onChange={event => change(event.target.value)}
          />
          <span className="font-mono text-[12px] text-ink-2">
            {['lanes', 'runs', 'states'].map(name => `${status}_${name}`).join(', ')}
          </span>
        </p>
      )}
    </div>
  )
}
