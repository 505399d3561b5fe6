import type { TwoWayTrail } from '@tide/core/api/two-way'
import type { RunAnswer } from '@tide/core/api/runs'
import { useQuery } from '@tanstack/react-query'
import { api } from '../api/client.ts'
import { plural } from '../format.ts'
import { TextButton } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { askTwoWay } from './deeds.ts'
import { valueSaid } from './said.ts'
import type { TwoWayPipeline } from './status.ts'

/** Writes back what a run has written, after a look at what that is. */
export function UndoRun({ pipeline, run }: { pipeline: TwoWayPipeline; run: RunAnswer }) {
  const { id, state } = pipeline
  if (run.kind !== 'two-way' || run.endedAt === null || run.rows === 0) return null
  return (
    <Confirm
      trigger={
        <TextButton
          disabled={state !== 'Following' && state !== 'Paused'}
          aria-label={`Undo the run of ${run.startedAt}`}
        >
          Undo …
        </TextButton>
      }
      title="Undo this run?"
      verb="Undo it"
      danger
      act={() => askTwoWay(id, { deed: 'undo', run: run.id })}
    >
      <WhatIsUndone pipeline={pipeline} run={run.id} />
    </Confirm>
  )
}

const SHOWN = 6

function WhatIsUndone({ pipeline, run }: { pipeline: TwoWayPipeline; run: string }) {
  const { id, fromName, toName } = pipeline
  const written = useQuery({
    queryKey: ['two-way', id, 'run', run],
    queryFn: () => api<TwoWayTrail[]>('GET', `/pipelines/${id}/written?${new URLSearchParams({ run })}`),
  })
  const trail = written.data ?? []
  const made = new Set(trail.filter(({ op }) => op === 'create').map(({ pair, side }) => `${pair} ${side}`))
    .size
  return (
    <>
      <p>
        Fields are written back to what they were, where they still say what the run has written; what was
        edited since is left.{' '}
        {made > 0 && (
          <b>{plural(made, 'record')} that it has made are deleted, unless somebody has edited them. </b>
        )}
      </p>
      <ul className="max-h-56 overflow-auto text-[13px]" aria-label="What is undone">
        {trail.slice(0, SHOWN).map(({ id: n, side, record, field, was, became, op }) => (
          <li key={n}>
            {side === 'a' ? fromName : toName} <span className="font-mono text-[12px]">{record}</span>{' '}
            {op === 'create' ? 'made' : `${field}: ${valueSaid(became)} → ${valueSaid(was)}`}
          </li>
        ))}
      </ul>
      {trail.length > SHOWN && <p>And {trail.length - SHOWN} more.</p>}
    </>
  )
}
