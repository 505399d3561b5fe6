import type { ReactNode } from 'react'
import { ApiError } from '../api/client.ts'

/** What happened and what to do about it. */
export function Notice({
  level,
  title,
  children,
}: {
  level: 'refused' | 'warning'
  title: ReactNode
  children?: ReactNode
}) {
  const look = level === 'refused' ? 'border-buoy-mark bg-buoy-paper' : 'border-ochre bg-ochre-paper'
  return (
    <div
      role={level === 'refused' ? 'alert' : 'status'}
      className={`border-l-3 px-3 py-2 text-[13px] ${look}`}
    >
      <p className="font-semibold">{title}</p>
      {children && <div className="text-ink-2">{children}</div>}
    </div>
  )
}

export function ErrorNotice({ error }: { error: unknown }) {
  if (!error) return null
  return (
    <Notice level="refused" title={(error as Error).message}>
      {error instanceof ApiError && error.remedy}
    </Notice>
  )
}
