/** How the rows of a batch travel to a target: as CSV, with what was not sent said beside them. */
import type { Put } from '@tide/core/apply/net-effect'
import { csvLine } from '@tide/core/records/csv'
import type { Row, Value } from '@tide/core/records/value'

/** As much text as goes into one part: a large batch is never there twice, and servers limit what they take at once. */
const PART_CHARACTERS = 256 * 1024

/** Rows as CSV, some at a time. */
export function* csvParts(rows: Iterable<readonly Value[]>): Generator<Buffer> {
  let text = ''
  for (const row of rows) {
    text += csvLine(row)
    if (text.length < PART_CHARACTERS) continue
    yield Buffer.from(text)
    text = ''
  }
  if (text !== '') yield Buffer.from(text)
}

/** In which places some of the rows have no value, since it was not sent. */
export function unsentColumns(puts: readonly Put[]): number[] {
  const columns = new Set<number>()
  for (const { row } of puts) for (const i of unsentIn(row)) columns.add(i)
  return [...columns]
}

/** What is staged beside a row: which of its values were not sent (`,2,5,`), the key of the row that has them, and its place among the puts. */
export function besideRow({ row, key, from }: Put, place: number): Value[] {
  const unsent = unsentIn(row)
  return [unsent.length > 0 ? `,${unsent.join(',')},` : null, ...(from ?? key), String(place)]
}

function unsentIn(row: Row): number[] {
  return row.includes(undefined) ? row.flatMap((value, i) => (value === undefined ? [i] : [])) : []
}
