import type { Session } from '@tide/connectors/contract/session'
import { Failure } from '@tide/core/failure'

/** How rows of a source are read; refused for what is none. */
export function scanOf(session: Session): NonNullable<Session['scan']> {
  if (session.scan) return session.scan.bind(session)
  throw new Failure('refused', 'This connection cannot be a source.', 'Choose another.')
}
