import type { ReactNode } from 'react'
import { Link } from 'react-router'

/** A connection that a pipeline has on one side. */
export function Place({ id, children }: { id: string; children: ReactNode }) {
  if (!id) return <i>not chosen</i>
  return (
    <Link className="underline decoration-line-2 underline-offset-2" to={`/connections/${id}`}>
      {children}
    </Link>
  )
}
