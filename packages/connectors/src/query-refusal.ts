import { Failure } from '@tide/core/failure'
import type { QueryLimits } from './contract.ts'

/** Why a statement of a person was not run to its end; `timedOut` by the system's own word for it. */
export function queryRefusal(message: string, timedOut: boolean, { timeoutMs }: QueryLimits): Failure {
  return timedOut
    ? new Failure(
        'refused',
        `The query was stopped after ${Math.round(timeoutMs / 1000)} s.`,
        'Ask for less, for example with WHERE or LIMIT.',
      )
    : new Failure('refused', message, 'Correct the statement; only one reading statement runs here.')
}
