import { useState } from 'react'
import { Button } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { TextField } from '../parts/Field.tsx'

/** Asks why rows are let be before they are. */
export function LetBe({ what, act }: { what: string; act: (note: string) => Promise<unknown> }) {
  const [note, setNote] = useState('')
  return (
    <Confirm
      trigger={<Button look="text">Let be …</Button>}
      title={`Let ${what} be?`}
      verb="Let be"
      danger
      ready={note.trim() !== ''}
      act={() => act(note.trim())}
    >
      <p>
        The target keeps what it has under the key, or nothing. The row is known to differ until a later
        change of it lands, and until then the pipeline is not consistent.
      </p>
      <TextField
        label="Why"
        value={note}
        maxLength={500}
        onChange={({ target }) => setNote(target.value)}
        hint="Stays with the record, and in the log."
      />
    </Confirm>
  )
}
