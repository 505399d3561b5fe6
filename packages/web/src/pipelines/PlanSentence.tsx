import type { ReactNode } from 'react'
import { PasteBlock } from '../parts/Copyable.tsx'

/** One thing that a plan does: what, and the rest of it. */
export function Sentence({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="py-2 text-[13px]">
      <h3 className="text-[14px]">{title}</h3>
      <div className="text-ink-2">{children}</div>
    </div>
  )
}

/** The very statements, on demand. */
export function Statements({ label, statements }: { label: string; statements: string[] }) {
  if (statements.length === 0) return null
  return (
    <details className="mt-0.5">
      <summary className="text-link">{label}</summary>
      <PasteBlock text={statements.map(statement => `${statement};`).join('\n\n')} />
    </details>
  )
}
