import type { ReactNode } from 'react'
import { TextButton } from '../../parts/Button.tsx'

/** Whether it is open, and how that is changed; one that cannot be changed has no turn. */
export interface Turning {
  open?: boolean
  turn?: () => void
}

interface SectionProps extends Turning {
  name: string
  title: string
  says: string
  children?: ReactNode
}

/** A section of the setup: what it says in one line, and its form when it is open. */
export function Section({ name, title, says, open = false, turn, children }: SectionProps) {
  return (
    <section className="border-t border-line-2 py-2.5" aria-labelledby={`section-${name}`}>
      <div className="grid grid-cols-[90px_minmax(0,1fr)_auto] items-baseline gap-3">
        <h2 id={`section-${name}`} className="text-[14px]">
          {title}
        </h2>
        <p className="overflow-hidden text-ellipsis whitespace-nowrap text-ink-2">{says}</p>
        {turn && (
          <TextButton aria-expanded={open} aria-label={`${open ? 'Fold' : 'Change'} ${title}`} onClick={turn}>
            {open ? 'Fold' : 'Change'}
          </TextButton>
        )}
      </div>
      {open && <div className="pt-3 pl-[102px]">{children}</div>}
    </section>
  )
}
