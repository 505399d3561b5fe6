/** Looks into CSV (see `csvLine`) without taking all of it apart: what is not asked for passes as the bytes it is. */
import { csvLine } from '@tide/core/records/csv'
import { wholeLines } from '@tide/core/records/csv-lines'

const [QUOTE, COMMA, NEWLINE] = Buffer.from('",\n')

export type TurnField = (text: string) => string

/**
 * Turns some of the fields. `turns`: by column, how a field that is not null is turned. Lines are cut at their ends only, so that one must fit into
 * memory.
 */
export async function* turnFields(
  csv: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
  turns: readonly (TurnField | undefined)[],
): AsyncGenerator<Buffer> {
  for await (const lines of wholeLines(csv))
    yield turnLines(Buffer.from(lines.buffer, lines.byteOffset, lines.byteLength), turns)
}

function turnLines(lines: Buffer, turns: readonly (TurnField | undefined)[]): Buffer {
  const out: Buffer[] = []
  let [column, start, quoted] = [0, 0, false]
  for (let i = 0; i < lines.length; i++) {
    const byte = lines[i]
    if (byte === QUOTE) quoted = !quoted
    if (quoted || (byte !== COMMA && byte !== NEWLINE)) continue
    const field = lines.subarray(start, i)
    const turn = turns[column]
    // Without its line's end.
    out.push(turn && field.length > 0 ? Buffer.from(csvLine([turn(unquoted(field))]).slice(0, -1)) : field)
    out.push(lines.subarray(i, i + 1))
    column = byte === NEWLINE ? 0 : column + 1
    start = i + 1
  }
  return Buffer.concat(out)
}

/** The fields of the last line, looked for from the end: behind where a line begins, quotes come in pairs. */
export function lastFields(csv: readonly Uint8Array[]): (string | null)[] {
  let quoted = false
  let part = csv.length - 1
  let at = (csv[part]?.length ?? 0) - 1
  const back = () => {
    at--
    while (at < 0 && part > 0) at = csv[--part]!.length - 1
  }
  while (at < 0 && part > 0) at = csv[--part]!.length - 1
  back() // over the end of the line itself
  for (; at >= 0; back()) {
    const byte = csv[part]![at]
    if (byte === QUOTE) quoted = !quoted
    else if (byte === NEWLINE && !quoted) break
  }
  return fieldsOf(Buffer.concat(csv.slice(Math.max(0, part))).subarray(at + 1))
}

/** The fields that are whole. */
export function fieldsOf(line: Buffer): (string | null)[] {
  const fields: (string | null)[] = []
  let [from, quoted] = [0, false]
  for (let i = 0; i < line.length; i++) {
    if (line[i] === QUOTE) quoted = !quoted
    if (quoted || (line[i] !== COMMA && line[i] !== NEWLINE)) continue
    fields.push(i > from ? unquoted(line.subarray(from, i)) : null)
    from = i + 1
  }
  return fields
}

function unquoted(field: Buffer): string {
  if (field[0] !== QUOTE) return field.toString()
  return field.toString('utf8', 1, field.length - 1).replaceAll('""', '"')
}
