import type { LaneRule } from '@tide/core/definition/lane-rule'
import { useState } from 'react'
import { InlineField, InlineSelect } from '../../parts/Field.tsx'
import { OrderedList } from '../../parts/OrderedList.tsx'
import { DeletesFields } from './DeletesFields.tsx'
import { ROWS_THERE, STRUCTURES } from './there.ts'

type Does = LaneRule['does']

const KINDS: { value: string; title: string; begin: Does }[] = [
  { value: 'deletes', title: 'rows that the source deletes', begin: { deletes: 'keep' } },
  { value: 'history', title: 'the history of changes', begin: { history: true } },
  { value: 'key', title: 'the key at the target', begin: { key: ['id'] } },
  { value: 'rows', title: 'rows that are there already', begin: { rows: 'add' } },
  { value: 'structure', title: 'the structure that is there', begin: { structure: 'add what is missing' } },
]

const HISTORIES = [
  { value: 'true', title: 'is kept' },
  { value: 'false', title: 'is not kept' },
]

/** What is otherwise for some lanes, a rule a line: of which tables, and what. */
export function LaneRules({
  rules,
  change,
}: {
  rules: readonly LaneRule[]
  change: (rules: LaneRule[]) => void
}) {
  return (
    <OrderedList
      label="Lane rules"
      one="lane rule"
      items={rules}
      change={change}
      line={({ like, does }, number, set, buttons) => (
        <>
          <div className="flex items-baseline gap-2">
            <b className="w-4">{number}</b>
            <span className="text-ink-2">tables like</span>
            <InlineField
              label={`Pattern of lane rule ${number}`}
              className="min-w-0 flex-1"
              value={like}
              onChange={event => set({ like: event.target.value, does })}
            />
            {buttons}
          </div>
          <div className="mt-1 flex items-baseline gap-2 pl-6">
            <InlineSelect
              label={`What lane rule ${number} is about`}
              value={KINDS.find(({ value }) => value in does)!.value}
              options={KINDS}
              onChange={event =>
                set({ like, does: KINDS.find(({ value }) => value === event.target.value)!.begin })
              }
            />
            {'deletes' in does ? (
              <DeletesFields
                label={`What becomes of them by lane rule ${number}`}
                deletes={does.deletes}
                change={deletes => set({ like, does: { deletes } })}
              />
            ) : 'history' in does ? (
              <InlineSelect
                label={`What becomes of it by lane rule ${number}`}
                value={String(does.history)}
                options={HISTORIES}
                onChange={event => set({ like, does: { history: event.target.value === 'true' } })}
              />
            ) : 'key' in does ? (
              <KeyField
                label={`Columns of the key by lane rule ${number}`}
                names={does.key}
                change={key => set({ like, does: { key } })}
              />
            ) : 'rows' in does ? (
              <InlineSelect
                label={`What becomes of them by lane rule ${number}`}
                value={does.rows}
                options={ROWS_THERE}
                onChange={event => set({ like, does: { rows: event.target.value } as Does })}
              />
            ) : (
              <InlineSelect
                label={`What becomes of it by lane rule ${number}`}
                value={does.structure}
                options={STRUCTURES}
                onChange={event => set({ like, does: { structure: event.target.value } as Does })}
              />
            )}
          </div>
        </>
      )}
    />
  )
}

interface KeyFieldProps {
  label: string
  names: readonly string[]
  change: (names: string[]) => void
}

/** Columns with commas between them; what is half typed stays so until the field is left. */
function KeyField({ label, names, change }: KeyFieldProps) {
  const [typed, setTyped] = useState<string>()
  return (
    <InlineField
      label={label}
      className="min-w-0 flex-1"
      value={typed ?? names.join(', ')}
      onChange={event => {
        setTyped(event.target.value)
        const next = event.target.value.split(',').map(name => name.trim())
        if (!next.includes('')) change(next)
      }}
      onBlur={() => setTyped(undefined)}
    />
  )
}
