import type { QueryLimits } from '../src/contract/session.ts'

/** Limits of a question, as generous as a test needs them. */
export function limits(changed: Partial<QueryLimits> = {}): QueryLimits {
  return {
    maxRows: 100,
    maxBytes: 8 * 2 ** 20,
    timeoutMs: 5000,
    signal: new AbortController().signal,
    ...changed,
  }
}
