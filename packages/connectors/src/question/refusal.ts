/** Why a question of a person was not answered, each in one way for all systems. */
import { Failure } from '@tide/core/failure'
import type { QueryLimits } from '../contract/session.ts'

export function tooLong({ timeoutMs }: Pick<QueryLimits, 'timeoutMs'>): Failure {
  return new Failure(
    'refused',
    `The query was stopped after ${Math.round(timeoutMs / 1000)} s.`,
    'Ask for less, for example with WHERE or LIMIT.',
  )
}

export function tooLarge({ maxBytes }: QueryLimits): Failure {
  return new Failure(
    'refused',
    `The first row alone is larger than ${Math.round(maxBytes / 2 ** 20)} MB.`,
    'Choose fewer columns, or only the beginning of a value, for example with left(column, 1000).',
  )
}

export function tooMuchMemory(): Failure {
  return new Failure(
    'refused',
    'The query took more memory than it may.',
    'Ask for less, for example with WHERE, or join and sort fewer rows.',
  )
}

export function left(): Failure {
  return new Failure('refused', 'The query was given up.', 'Run it again.')
}

export function misunderstood(message: string): Failure {
  return new Failure('refused', message, 'Correct the statement.')
}

/** `what`: the part of the statement that is not known to be a question, by its name. */
export function notAQuestion(what: string): Failure {
  return new Failure(
    'refused',
    `${what} is not taken: what runs here can only ask.`,
    'Use SELECT with functions that only read; run anything else with the system’s own client.',
  )
}

export function severalStatements(count: number): Failure {
  return count === 0
    ? misunderstood('There is no statement.')
    : new Failure('refused', `The box holds ${count} statements.`, 'Send one statement at a time.')
}
