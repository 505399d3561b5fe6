import { hinders, type PlanNote } from '@tide/core/plan/note'
import { useState, type ReactNode } from 'react'
import { Button } from '../../parts/Button.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { decisions } from './decisions.ts'

export interface StartButtonProps {
  plan: readonly Pick<PlanNote, 'level'>[] | undefined
  ready: boolean
  /** There is no plan, for a reason that is said. */
  failed: boolean
  verb: string
  /** What is asked before rows go. */
  confirm: { title: string; verb: string; body: ReactNode; typed?: string | undefined } | undefined
  start: () => Promise<void>
}

/** Starts what the plan says; asks first where rows would go. */
export function StartButton({ plan, ready, failed, verb, confirm, start }: StartButtonProps) {
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const blocked = !ready || (plan?.some(hinders) ?? true)
  if (confirm && !blocked) {
    return (
      <Confirm
        trigger={
          <Button look="filled" className="w-full justify-center">
            {verb}
          </Button>
        }
        title={confirm.title}
        verb={confirm.verb}
        danger
        typed={confirm.typed}
        act={start}
      >
        {confirm.body}
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
          {ready
            ? `${decisions(plan)} first`
            : failed
              ? 'The plan could not be made; it says why.'
              : 'The plan is not ready yet.'}
        </p>
      )}
    </>
  )
}
