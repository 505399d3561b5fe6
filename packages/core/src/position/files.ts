import type { PositionOrder } from './position.ts'

/** A place among files in the order in which they were last written: a time, ISO 8601 in milliseconds, and of several of one time a path. */
export interface FilePlace {
  at: string
  path: string
}

export function printFilePlace({ at, path }: FilePlace): string {
  return path === '' ? at : `${at} ${path}`
}

/** Throws when the text is none of ours. */
export function parseFilePlace(text: string): FilePlace {
  const [, at, path = ''] = /^(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z)(?: (.+))?$/s.exec(text) ?? []
  if (at === undefined) throw new Error(`${text} is no place among files`)
  return { at, path }
}

export function compareFilePlaces(a: string, b: string): PositionOrder {
  const [left, right] = [parseFilePlace(a), parseFilePlace(b)]
  if (left.at !== right.at) return left.at < right.at ? 'before' : 'after'
  return left.path === right.path ? 'same' : left.path < right.path ? 'before' : 'after'
}
