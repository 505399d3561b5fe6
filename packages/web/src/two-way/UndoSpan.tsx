import { useState } from 'react'
import { TextButton } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { TextField } from '../parts/Field.tsx'
import { askTwoWay } from './deeds.ts'
import type { TwoWayPipeline } from './status.ts'
import { UndoForeseenList } from './UndoForeseenList.tsx'

const HOUR_MS = 3_600_000

/** As a field for local time has it, to the second. */
function local(at: number): string {
  const date = new Date(at)
  return new Date(at - date.getTimezoneOffset() * 60_000).toISOString().slice(0, 19)
}

/** Writes back what was written from one time to another, after a look at what that is. */
export function UndoSpan({ pipeline }: { pipeline: TwoWayPipeline }) {
  const { id, state } = pipeline
  const [from, setFrom] = useState(() => local(Date.now() - HOUR_MS))
  const [to, setTo] = useState(() => local(Date.now()))
  const [begins, ends] = [new Date(from), new Date(to)]
  const isSpan = begins.getTime() < ends.getTime()
  const of = isSpan ? { from: begins.toISOString(), to: ends.toISOString() } : undefined
  return (
    <Confirm
      trigger={
        <TextButton disabled={state !== 'Following' && state !== 'Paused'}>Undo a span of time …</TextButton>
      }
      title="Undo what was written from one time to another?"
      verb="Undo it"
      danger
      ready={of !== undefined}
      act={() => askTwoWay(id, { deed: 'undo', of: of! })}
    >
      <div className="grid gap-3">
        <TextField
          type="datetime-local"
          step={1}
          label="From"
          value={from}
          onChange={({ target }) => setFrom(target.value)}
        />
        <TextField
          type="datetime-local"
          step={1}
          label="To"
          value={to}
          onChange={({ target }) => setTo(target.value)}
        />
      </div>
      {of ? (
        <UndoForeseenList pipeline={pipeline} of={of} />
      ) : (
        <p>The span ends before it begins: choose a later end.</p>
      )}
    </Confirm>
  )
}
