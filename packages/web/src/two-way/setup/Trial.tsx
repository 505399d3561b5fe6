import type { LaneForeseen } from '@tide/core/api/two-way'
import type { TwoWayLane } from '@tide/core/definition/two-way'
import { useState } from 'react'
import { count, plural } from '../../format.ts'
import { Button, TextButton } from '../../parts/Button.tsx'
import { InlineField } from '../../parts/Field.tsx'
import type { Called } from '../said.ts'

interface TrialProps {
  lane: TwoWayLane
  called: Called
  foreseen: LaneForeseen | undefined
  change: (part: Partial<TwoWayLane>) => void
}

/** For the time being a few records alone take part. */
export function Trial({ lane, called, foreseen, change }: TrialProps) {
  const { trial } = lane
  const [keys, setKeys] = useState({ a: '', b: '' })
  if (!trial)
    return (
      <p className="mt-3 text-[13px] text-ink-2">
        <TextButton onClick={() => change({ trial: { a: [], b: [] } })}>
          Try it with a few records first
        </TextButton>{' '}
        and see what becomes of them before all take part.
      </p>
    )
  const add = (side: 'a' | 'b') => {
    const key = keys[side].trim()
    if (key === '' || trial[side].includes(key)) return
    change({ trial: { ...trial, [side]: [...trial[side], key] } })
    setKeys({ ...keys, [side]: '' })
  }
  return (
    <div
      className="mt-3 border-l-3 border-ochre bg-ochre-paper px-2.5 py-2 text-[13px]"
      role="group"
      aria-label="Trial"
    >
      <p className="font-semibold">
        On trial: {plural(trial.a.length + trial.b.length, 'record takes', 'records take')} part, and no
        others.
      </p>
      {(['a', 'b'] as const).map(side => (
        <p key={side} className="mt-1 flex flex-wrap items-baseline gap-2">
          <span className="w-28 text-ink-2">of {called[side]}</span>
          {trial[side].map(key => (
            <span key={key} className="font-mono text-[12px]">
              {key}{' '}
              <TextButton
                aria-label={`Take ${key} out of the trial`}
                onClick={() =>
                  change({ trial: { ...trial, [side]: trial[side].filter(one => one !== key) } })
                }
              >
                out
              </TextButton>
            </span>
          ))}
          <InlineField
            label={`Key of a record of ${called[side]} for the trial`}
            className="w-32"
            placeholder="its key"
            value={keys[side]}
            onChange={({ target }) => setKeys({ ...keys, [side]: target.value })}
            onKeyDown={event => event.key === 'Enter' && add(side)}
          />
          <TextButton onClick={() => add(side)}>Add</TextButton>
        </p>
      ))}
      <p className="mt-2 flex items-baseline gap-3">
        <Button onClick={() => change({ trial: undefined })}>Let all take part</Button>
        {foreseen && foreseen.withoutTrial > 0 && (
          <span>{count(foreseen.withoutTrial)} more would take part then.</span>
        )}
      </p>
    </div>
  )
}
