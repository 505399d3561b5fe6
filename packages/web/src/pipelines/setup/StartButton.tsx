import { hinders, type PlanNote } from '@tide/core/plan/note'
import { useState } from 'react'
import { plural } from '../../format.ts'
import { Button } from '../../parts/Button.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { decisions } from './decisions.ts'

interface StartButtonProps {
  plan: readonly PlanNote[] | undefined
  ready: boolean
  tables: number
  replaced: string[]
  verb: string
  start: () => Promise<void>
}

/** Starts what the plan says; asks first where rows would go. */
export function StartButton({ plan, ready, tables, replaced, verb: does, start }: StartButtonProps) {
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const blocked = !ready || (plan?.some(hinders) ?? true)
  const verb = tables === 0 ? does : `${does} ${plural(tables, 'table')}`
  if (replaced.length > 0 && !blocked) {
    return (
      <Confirm
        trigger={
          <Button look="filled" className="w-full justify-center">
            {verb}
          </Button>
        }
        title={`Replace ${plural(replaced.length, 'table')}?`}
        verb="Replace and copy"
        danger
        act={start}
      >
        <p>Their present rows are deleted, then copied anew: {replaced.join(', ')}.</p>
      </Confirm>
    )
  }
  const go = async () => {
    setBusy(true)
    setError(undefined)
    await start().catch(setError)
    setBusy(false)
  }
  return (
    <>
      <div className={error === undefined ? '' : 'mb-2'}>
        <ErrorNotice error={error} />
      </div>
      <Button
        look="filled"
        className="w-full justify-center"
        disabled={blocked || busy}
        onClick={() => void go()}
      >
        {busy ? 'Starting …' : verb}
      </Button>
      {blocked && (
        <p className="mt-1 text-center text-[12px] text-ink-2">
          {ready ? `${decisions(plan)} first` : 'The plan is not ready yet.'}
        </p>
      )}
    </>
  )
}
