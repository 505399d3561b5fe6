import type { RunAnswer } from '@tide/core/api/runs'
import { TextButton } from '../parts/Button.tsx'
import { Confirm } from '../parts/Dialog.tsx'
import { askTwoWay } from './deeds.ts'
import type { TwoWayPipeline } from './status.ts'
import { UndoForeseenList } from './UndoForeseenList.tsx'

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
      act={() => askTwoWay(id, { deed: 'undo', of: { run: run.id } })}
    >
      <UndoForeseenList pipeline={pipeline} of={{ run: run.id }} />
    </Confirm>
  )
}
