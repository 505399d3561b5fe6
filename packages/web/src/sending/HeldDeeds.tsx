import type { SendRow } from '@tide/core/api/send'
import type { FieldPair } from '@tide/core/definition/send'
import { useState } from 'react'
import { TextButton } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { TextField } from '../parts/Field.tsx'
import { send } from './deeds.ts'
import { keySaid } from './said.ts'

interface HeldDeedsProps {
  pipeline: string
  row: SendRow
  /** Fields that the pipeline sends. */
  fields: readonly FieldPair[]
  waits: boolean
}

/** What a person can do with a row that does not fit, where the source cannot be corrected: other values, or leaving it out. */
export function HeldDeeds({ pipeline, row, fields, waits }: HeldDeedsProps) {
  const { key, field, values } = row
  const [typed, setTyped] = useState<Record<string, string>>({})
  const [note, setNote] = useState('')
  const said = keySaid(key)
  // The one that is to blame comes first.
  const shown = [...fields].sort((a, b) => Number(b.field === field) - Number(a.field === field))
  const correct = () =>
    send(pipeline, {
      deed: 'correct',
      keys: [key],
      values: Object.fromEntries(
        Object.entries(typed).map(([name, text]) => [name, text === '' ? null : text]),
      ),
    })
  return (
    <>
      <Confirm
        trigger={
          <TextButton disabled={!waits} aria-label={`Correct ${said}`}>
            Correct …
          </TextButton>
        }
        title={`Correct ${said} here`}
        verb="Send it so"
        ready={Object.keys(typed).length > 0}
        act={correct}
      >
        <p>These values are sent in place of those of the row, until it says something else at the source.</p>
        <div className="max-h-[40vh] space-y-2 overflow-auto">
          {shown.map(({ field: name, by }) => (
            <TextField
              key={name}
              label={name}
              mono
              value={typed[name] ?? (by ? '' : (values?.[name] ?? ''))}
              placeholder={by && (values?.[name] ?? '')}
              onChange={({ target }) => setTyped({ ...typed, [name]: target.value })}
              hint={name === field ? row.reason : by && `Its record is found by ${by}.`}
            />
          ))}
        </div>
      </Confirm>
      <Confirm
        trigger={
          <TextButton disabled={!waits} aria-label={`Leave out ${said}`}>
            Leave out …
          </TextButton>
        }
        title={`Leave ${said} out?`}
        verb="Leave it out"
        ready={note.trim() !== ''}
        act={() => send(pipeline, { deed: 'leave out', keys: [key], note: note.trim() })}
      >
        <p>It is not sent, and not held, until it says something else at the source.</p>
        <TextField
          label="Why"
          value={note}
          maxLength={500}
          onChange={({ target }) => setNote(target.value)}
          hint="Stays with the record."
        />
      </Confirm>
    </>
  )
}
