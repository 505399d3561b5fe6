/** Rows that nobody behind the journal could put into a text: they are named instead, before anything of them is taken. */
import { Failure } from '@tide/core/failure'
import { printName } from '@tide/core/records/dataset'
import type { LoggedRelation } from '@tide/core/records/relation'
import { decodeRow, TEXT } from '@tide/core/records/tuple'

/** Half of what a text can hold at most here, since values grow when they are quoted. */
export const LARGEST_ROW_BYTES = 256 * 2 ** 20
/** Of a value, to tell a row by. */
const TOLD_BYTES = 200
const TOLD_VALUES = 3

export function refuseTooLarge(relation: LoggedRelation | undefined, row: Uint8Array): void {
  if (row.length <= LARGEST_ROW_BYTES) return
  const { dataset, columns, identity } = relation!
  let [at, largest, longest] = [2, 0, 0]
  const small: (string | null)[] = []
  const bytes = Buffer.from(row.buffer, row.byteOffset, row.byteLength)
  for (let i = 0; i < columns.length; i++) {
    const length = bytes[at] === TEXT ? bytes.readUInt32BE(at + 1) : 0
    small.push(length > 0 && length <= TOLD_BYTES ? valueAt(bytes, at, length) : null)
    if (length > longest) [largest, longest] = [i, length]
    at += bytes[at] === TEXT ? 5 + length : 1
  }
  const told = columns
    .map(({ name }, i) => ({ name, value: small[i] }))
    .filter(({ name, value }) => typeof value === 'string' && (!identity || identity.includes(name)))
    .slice(0, TOLD_VALUES)
    .map(({ name, value }) => `${name} ${value}`)
  throw new Failure(
    'value',
    `${printName(dataset)}.${columns[largest]!.name}: a value of ${Math.round(longest / 2 ** 20)} MB is larger than can be carried (${LARGEST_ROW_BYTES / 2 ** 20} MB a row), in the row with ${told.join(', ')}.`,
    'Make the value smaller at the source, and start again without the table or after the log is past it.',
  )
}

/** As a row of that one value. */
function valueAt(bytes: Buffer, at: number, length: number): string {
  return decodeRow(Buffer.concat([Buffer.from([0, 1]), bytes.subarray(at, at + 5 + length)]))[0] as string
}
