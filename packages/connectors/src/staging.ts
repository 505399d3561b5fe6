/** How the rows of a batch travel to a target: as CSV, with what was not sent said beside them. */
import type { Put } from '@tide/core/apply/net-effect'
import { csvLine, CsvWriter } from '@tide/core/records/csv'
import { packRow, unpackRow, unsentIn, type PackedRow } from '@tide/core/records/tuple'
import type { Key } from '@tide/core/records/value'
import type { TurnField } from './csv-fields.ts'

/** As much as goes into one part: a large batch is never there twice, and servers limit what they take at once. */
const PART_BYTES = 256 * 1024

/** Keys as CSV, some at a time. */
export function* keyParts(keys: Iterable<Key>): Generator<Uint8Array> {
  let text = ''
  for (const key of keys) {
    text += csvLine(key)
    if (text.length < PART_BYTES) continue
    yield Buffer.from(text)
    text = ''
  }
  if (text !== '') yield Buffer.from(text)
}

/**
 * Rows as CSV, some at a time. `partial`: beside each stand which of its values were not sent (`,2,5,`), the key of the row
 * that has them, and its index among the puts. `turns`: by column, how a value that is not null is turned.
 */
export function* putParts(
  puts: readonly Put[],
  partial = false,
  turns: readonly (TurnField | undefined)[] = [],
): Generator<Uint8Array> {
  const turning = turns.some(turn => turn !== undefined)
  const writer = new CsvWriter(PART_BYTES * 2)
  for (let index = 0; index < puts.length; index++) {
    const put = puts[index]!
    writer.row(turning ? turned(put.row, turns) : put.row)
    writer.endLine(partial ? `,${beside(put, index)}` : '')
    if (writer.length >= PART_BYTES) yield writer.take()
  }
  if (writer.length > 0) yield writer.take()
}

/** In which places some of the rows have no value, since it was not sent. */
export function unsentColumns(puts: readonly Put[]): number[] {
  const columns = new Set<number>()
  for (const { row, from } of puts) if (from) for (const i of unsentIn(row)) columns.add(i)
  return [...columns]
}

function beside({ row, key, from }: Put, index: number): string {
  const unsent = from ? unsentIn(row) : []
  const line = csvLine([unsent.length > 0 ? `,${unsent.join(',')},` : null, ...(from ?? key), String(index)])
  return line.slice(0, -1)
}

function turned(row: PackedRow, turns: readonly (TurnField | undefined)[]): PackedRow {
  const values = unpackRow(row)
  turns.forEach((turn, i) => {
    const value = values[i]
    if (turn && typeof value === 'string') values[i] = turn(value)
  })
  return packRow(values)
}
