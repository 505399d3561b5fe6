/**
 * What went wrong, in words a person can act on.
 *
 * - `transient`: trying again later may help (connection, lock, rate limit)
 * - `structural`: something outside must be changed first (a vanished table, a revoked right)
 * - `value`: one record would not go in
 * - `refused`: the request itself cannot be carried out as asked
 */
export type FailureKind = 'transient' | 'structural' | 'value' | 'refused'

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

/** Any thrown thing as a Failure; what is not one yet is taken for transient, so that nothing is given up silently. */
export function asFailure(thrown: unknown): Failure {
  if (thrown instanceof Failure) return thrown
  const message = thrown instanceof Error ? thrown.message : String(thrown)
  return new Failure(
    'transient',
    message,
    'It is tried again by itself. If it persists, read the log.',
    thrown,
  )
}
