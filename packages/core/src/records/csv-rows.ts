/** Fields and rows of CSV (see `csvLine`) as values: nothing is null, and what is quoted is text. */
import type { Value } from './value.ts'

declare const TextDecoder: new (
  label: string,
  options: { fatal: boolean; ignoreBOM: boolean },
) => { decode(bytes: Uint8Array): string }

const decoder = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true })
const [QUOTE, COMMA, NEWLINE] = [0x22, 0x2c, 0x0a]

/** The field between two places. */
export function fieldAt(lines: Uint8Array, start: number, end: number): Value {
  if (start === end) return null
  if (lines[start] !== QUOTE) return decoder.decode(lines.subarray(start, end))
  return decoder.decode(lines.subarray(start + 1, end - 1)).replaceAll('""', '"')
}

/** Whole lines as rows. */
export function csvRows(lines: Uint8Array): Value[][] {
  const rows: Value[][] = []
  let row: Value[] = []
  let [start, quoted] = [0, false]
  for (let i = 0; i < lines.length; i++) {
    const byte = lines[i]!
    if (byte === QUOTE) quoted = !quoted
    if (quoted || (byte !== COMMA && byte !== NEWLINE)) continue
    row.push(fieldAt(lines, start, i))
    start = i + 1
    if (byte === COMMA) continue
    rows.push(row)
    row = []
  }
  return rows
}
