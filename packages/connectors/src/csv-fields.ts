/** Looks into CSV (see `csvLine`) without taking all of it apart: what is not asked for passes as the bytes it is. */
import { csvLine } from '@tide/core/records/csv'

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
  let rest: Buffer[] = []
  let quoted = false
  for await (const part of csv) {
    const bytes = Buffer.from(part.buffer, part.byteOffset, part.byteLength)
    let end = 0
    for (let i = 0; i < bytes.length; i++) {
      if (bytes[i] === QUOTE) quoted = !quoted
      else if (bytes[i] === NEWLINE && !quoted) end = i + 1
    }
    if (end === 0) {
      rest.push(Buffer.from(bytes))
      continue
    }
    yield turnLines(Buffer.concat([...rest, bytes.subarray(0, end)]), turns)
    rest = end < bytes.length ? [Buffer.from(bytes.subarray(end))] : []
  }
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

/** How many lines there are, and the fields of the last one. */
export function lastLine(csv: readonly Uint8Array[]): { lines: number; fields: (string | null)[] } {
  let [lines, quoted] = [0, false]
  // Where the last line begins, which may be some parts before the last one.
  let [part, start] = [0, 0]
  let next: [part: number, start: number] = [0, 0]
  for (let p = 0; p < csv.length; p++) {
    const bytes = csv[p]!
    for (let i = 0; i < bytes.length; i++) {
      const byte = bytes[i]
      if (byte === QUOTE) quoted = !quoted
      else if (byte === NEWLINE && !quoted) {
        lines++
        ;[part, start] = next
        next = [p, i + 1]
      }
    }
  }
  const line = Buffer.concat(csv.slice(part)).subarray(start)
  const fields: (string | null)[] = []
  let from = 0
  quoted = false
  for (let i = 0; i < line.length; i++) {
    if (line[i] === QUOTE) quoted = !quoted
    if (quoted || (line[i] !== COMMA && line[i] !== NEWLINE)) continue
    fields.push(i > from ? unquoted(line.subarray(from, i)) : null)
    from = i + 1
    if (line[i] === NEWLINE) break
  }
  return { lines, fields }
}

function unquoted(field: Buffer): string {
  if (field[0] !== QUOTE) return field.toString()
  return field.toString('utf8', 1, field.length - 1).replaceAll('""', '"')
}
