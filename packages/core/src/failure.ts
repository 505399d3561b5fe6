/**
 * What went wrong, in words a person can act on.
 *
 * - `transient`: trying again later may help (connection, lock, rate limit)
 * - `structural`: something outside must be changed first (a vanished table, a revoked right)
 * - `value`: one record would not go in
 * - `refused`: the request itself cannot be carried out as asked
 * - `guard`: it could be done, and a person is asked first
 * - `fault`: nobody has foreseen it; tried again a few times, then given up with a report
 */
export type FailureKind = 'transient' | 'structural' | 'value' | 'refused' | 'guard' | 'fault'

/** An error whose message names the thing concerned, with a `remedy` that says what to do about it. */
export class Failure extends Error {
  readonly kind: FailureKind
  readonly remedy: string

  constructor(kind: FailureKind, message: string, remedy: string, cause?: unknown) {
    super(message, cause === undefined ? undefined : { cause })
    this.name = 'Failure'
    this.kind = kind
    this.remedy = remedy
  }
}

/** Any thrown thing as a Failure; what is not one yet is a fault: only what is known to pass is transient. */
export function asFailure(thrown: unknown): Failure {
  if (thrown instanceof Failure) return thrown
  return faultOf(thrown)
}

/** What a thrown thing says; native code may throw errors that are none of this realm's. */
export function messageOf(thrown: unknown): string {
  const { message } = Object(thrown) as { message?: unknown }
  return typeof message === 'string' ? message : String(thrown)
}

/** `where`: the system that was worked with. */
export function faultOf(thrown: unknown, where?: string): Failure {
  return new Failure(
    'fault',
    `${where ? `${where}: ` : ''}${messageOf(thrown)}`,
    'This was not foreseen. It is tried again a few times; after that, the log has what a report needs.',
    thrown,
  )
}

/** What a report of a failure needs beside its message: the errors behind it, with where they were thrown. */
export function reportOf(failure: Failure): string {
  const parts: string[] = []
  for (let at: unknown = failure; at instanceof Error && parts.length < 5; at = at.cause)
    parts.push(at.stack ?? `${at.name}: ${at.message}`)
  return parts.join('\ncaused by ')
}
