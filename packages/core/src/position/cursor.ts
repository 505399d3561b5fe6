/**
 * A place in what a cursor column tells: everything up to a time, and on the way to the next such time, the table and
 * the row reached. Printed as `TIME`, or `TIME > TIME table N after ["…"]`.
 */
export interface CursorPlace {
  upTo: string
  toward?: { time: string; table: number; after: readonly string[] | null }
}

export function printCursorPlace({ upTo, toward }: CursorPlace): string {
  if (!toward) return upTo
  const after = toward.after ? ` after ${JSON.stringify(toward.after)}` : ''
  return `${upTo} > ${toward.time} table ${toward.table}${after}`
}

/** Throws when the text is none of ours. */
export function parseCursorPlace(text: string): CursorPlace {
  const parts = /^(.+?)(?: > (.+?) table (\d+)(?: after (\[.*\]))?)?$/s.exec(text)
  if (!parts) throw new Error(`${text} is no place of a cursor`)
  const [, upTo, time, table, after] = parts
  if (time === undefined) return { upTo: upTo! }
  return { upTo: upTo!, toward: { time, table: Number(table), after: after ? JSON.parse(after) : null } }
}
