import { Dialog as Radix } from 'radix-ui'
import { useState, type ReactNode } from 'react'
import { Button } from './Button.tsx'
import { TextField } from './Field.tsx'
import { ErrorNotice } from './Notice.tsx'

interface ConfirmProps {
  trigger: ReactNode
  title: string
  /** What will happen, with numbers and names. */
  children: ReactNode
  verb: string
  danger?: boolean
  /** What must be typed first. */
  typed?: string | undefined
  /** False while something is still to be said. */
  ready?: boolean
  /** Told whether it is open. */
  turned?: (open: boolean) => void
  act: () => Promise<unknown>
}

/** Asks before something is lost; an error stays in the dialog with its remedy. */
export function Confirm({
  trigger,
  title,
  children,
  verb,
  danger,
  typed,
  ready = true,
  turned,
  act,
}: ConfirmProps) {
  const [text, setText] = useState('')
  const [open, setOpen] = useState(false)
  const [busy, setBusy] = useState(false)
  const [error, setError] = useState<unknown>()
  const turn = (next: boolean) => {
    setOpen(next)
    turned?.(next)
  }
  const go = async () => {
    setBusy(true)
    setError(undefined)
    try {
      await act()
      turn(false)
    } catch (failed) {
      setError(failed)
    } finally {
      setBusy(false)
    }
  }
  return (
    <Radix.Root open={open} onOpenChange={turn}>
      <Radix.Trigger asChild>{trigger}</Radix.Trigger>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-[#13222c66]" />
        <Radix.Content
          className="fixed top-1/4 left-1/2 z-50 w-[440px] -translate-x-1/2 border border-line-2 bg-paper-3 p-5"
          aria-describedby={undefined}
        >
          <Radix.Title className="text-base">{title}</Radix.Title>
          <div className="my-3 space-y-2 text-ink-2">{children}</div>
          {typed !== undefined && (
            <TextField
              label={`Type “${typed}” to go on`}
              value={text}
              onChange={event => setText(event.target.value)}
            />
          )}
          <ErrorNotice error={error} />
          <div className="mt-4 flex justify-end gap-2">
            <Radix.Close asChild>
              <Button look="text">Cancel</Button>
            </Radix.Close>
            <Button
              look={danger ? 'danger' : 'filled'}
              disabled={busy || !ready || (typed !== undefined && text.trim() !== typed)}
              onClick={go}
            >
              {verb}
            </Button>
          </div>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}
