import type { PositionOrder } from './position.ts'

/**
 * A place in what a cursor column tells: everything up to a time, and on the way to the next such time, the table and
 * the row reached: `row` counts the rows of the table that were passed, `after` is the last one's time and key. Printed as
 * `TIME`, or `TIME > TIME table N row N after ["…"]`.
 */
export interface CursorPlace {
  upTo: string
  toward?: { time: string; table: number; row: number; after: readonly string[] | null }
}

export function printCursorPlace({ upTo, toward }: CursorPlace): string {
  if (!toward) return upTo
  const after = toward.after ? ` after ${JSON.stringify(toward.after)}` : ''
  return `${upTo} > ${toward.time} table ${toward.table} row ${toward.row}${after}`
}

/** Throws when the text is none of ours. */
export function parseCursorPlace(text: string): CursorPlace {
  // Earlier versions did not count rows.
  const parts = /^(.+?)(?: > (.+?) table (\d+)(?: row (\d+))?(?: after (\[.*\]))?)?$/s.exec(text)
  if (!parts || Number.isNaN(Date.parse(parts[1]!))) throw new Error(`${text} is no place of a cursor`)
  const [, upTo, time, table, row = '0', after] = parts
  if (time === undefined) return { upTo: upTo! }
  const toward = { time, table: Number(table), row: Number(row), after: after ? JSON.parse(after) : null }
  return { upTo: upTo!, toward }
}

/** How one place stands to another on the way of one reader, who stops at each time that was given out as a position. */
export function compareCursorPlaces(a: string, b: string): PositionOrder {
  if (a === b) return 'same'
  const [left, right] = [parseCursorPlace(a), parseCursorPlace(b)]
  if (left.upTo !== right.upTo) return left.upTo < right.upTo ? 'before' : 'after'
  if (!left.toward) return 'before'
  if (!right.toward) return 'after'
  if (left.toward.time !== right.toward.time) return 'unknown'
  const [one, other] = [left.toward, right.toward]
  const order = one.table - other.table || one.row - other.row
  return order < 0 ? 'before' : order > 0 ? 'after' : 'same'
}
