import type { Deletes } from '@tide/core/definition/lane-rule'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'

const DELETES = [
  { value: 'remove', title: 'go at the target, too' },
  { value: 'mark', title: 'stay, with the time in a column' },
  { value: 'keep', title: 'stay as they were' },
]

function kindOf(deletes: Deletes): string {
  return typeof deletes === 'object' ? 'mark' : deletes
}

/** In words: “stay as they were”. */
export function deletesSaid(deletes: Deletes): string {
  return DELETES.find(({ value }) => value === kindOf(deletes))!.title
}

interface DeletesFieldsProps {
  label: string
  deletes: Deletes
  change: (deletes: Deletes) => void
}

/** What becomes of rows that the source deletes. */
export function DeletesFields({ label, deletes, change }: DeletesFieldsProps) {
  return (
    <>
      <InlineSelect
        label={label}
        value={kindOf(deletes)}
        options={DELETES}
        onChange={event => {
          const next = event.target.value
          change(next === 'mark' ? { mark: 'deleted_at' } : (next as 'remove' | 'keep'))
        }}
      />
      {typeof deletes === 'object' && (
        <InlineField
          label={`${label}: the column of the mark`}
          className="w-32 min-w-0"
          value={deletes.mark}
          onChange={event => change({ mark: event.target.value })}
        />
      )}
    </>
  )
}
