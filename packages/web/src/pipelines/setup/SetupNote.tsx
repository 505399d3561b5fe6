import type { PlanNote } from '@tide/core/plan/note'
import type { ReactNode } from 'react'

const LOOKS: Record<PlanNote['level'], string> = {
  refused: 'border-buoy-mark bg-buoy-paper',
  undecided: 'border-ink-3 bg-paper-3',
  loss: 'border-ochre bg-ochre-paper',
  warning: 'border-ochre bg-ochre-paper',
}

interface SetupNoteProps {
  note: Pick<PlanNote, 'level' | 'message' | 'remedy'>
  /** Behind the remedy. */
  deeds?: ReactNode
  children?: ReactNode
}

/** What stands in the way of a start, or is to be known before. */
export function SetupNote({ note: { level, message, remedy }, deeds, children }: SetupNoteProps) {
  return (
    <div className={`border-l-3 px-2.5 py-1.5 text-[13px] ${LOOKS[level]}`}>
      <p className="font-semibold">{message}</p>
      <p className="text-ink-2">
        {remedy} {deeds}
      </p>
      {children}
    </div>
  )
}
