import { Failure } from '@tide/core/failure'

/** What DuckDB said about `where` (the file), as a Failure with a remedy. */
export function duckdbFailure(thrown: unknown, where: string): Failure {
  if (thrown instanceof Failure) return thrown
  const message = (thrown instanceof Error ? thrown.message : String(thrown)).split('\n')[0]!
  if (/Conflict|TransactionContext/i.test(message)) {
    return new Failure(
      'transient',
      `${where}: another transaction got in the way.`,
      'It is tried again by itself.',
      thrown,
    )
  }
  if (/No space left|Could not write|disk/i.test(message)) {
    return new Failure(
      'transient',
      `${where} cannot be written: ${message}`,
      'Free space on its disk; it is tried again by itself.',
      thrown,
    )
  }
  if (/^Out of Memory Error/.test(message)) {
    return new Failure(
      'transient',
      `${where}: DuckDB has no memory left for this batch: ${message}`,
      'It is tried again from a fresh start of the warehouse.',
      thrown,
    )
  }
  if (/^Catalog Error/.test(message)) {
    return new Failure(
      'structural',
      `${where}: ${message}`,
      'Was the table dropped or changed there? Start again: it is made and copied anew.',
      thrown,
    )
  }
  return new Failure(
    'structural',
    `${where}: ${message}`,
    'Read the message, mend what it names, then continue.',
    thrown,
  )
}
