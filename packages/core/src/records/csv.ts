import type { Value } from './value.ts'

/** A field that is just `\.` is quoted, too: alone on a line, PostgreSQL takes it for the end of the data. */
const SPECIAL = /[",\r\n]|^\\\.$/

/**
 * One line of CSV (RFC 4180) as PostgreSQL's `COPY … (FORMAT csv)` writes it: a null is nothing at all, an empty
 * string is `""`. Bulk data travels in this form because every database reads it natively at its best speed.
 */
export function csvLine(values: readonly Value[]): string {
  let line = ''
  for (let i = 0; i < values.length; i++) {
    if (i > 0) line += ','
    const value = values[i]
    if (value === null || value === undefined) continue
    line += value === '' || SPECIAL.test(value) ? `"${value.replaceAll('"', '""')}"` : value
  }
  return `${line}\n`
}
