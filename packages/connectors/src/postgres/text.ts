/** PostgreSQL's text form of composites, and SQL quoting. */
import { readQuoted } from '@tide/core/records/list'

/** Quotes an identifier. */
export function ident(name: string): string {
  return `"${name.replaceAll('"', '""')}"`
}

/** Quotes a string as a literal, whatever `standard_conforming_strings` says. */
export function literal(text: string): string {
  const quoted = `'${text.replaceAll("'", "''")}'`
  return text.includes('\\') ? ` E${quoted.replaceAll('\\', '\\\\')}` : quoted
}

/**
 * The fields of a composite value as `record_out` prints it: nothing is null, quotes and backslashes are doubled
 * inside double quotes. Throws when the text is not a composite.
 * https://www.postgresql.org/docs/current/rowtypes.html#ROWTYPES-IO-SYNTAX
 */
export function parseComposite(text: string): (string | null)[] {
  if (text[0] !== '(' || text.at(-1) !== ')') throw new Error('not a composite value')
  const fields: (string | null)[] = []
  const end = text.length - 1
  let i = 1
  for (;;) {
    if (text[i] === '"') {
      const [value, next] = readQuoted(text, i)
      fields.push(value)
      i = next
    } else {
      let comma = text.indexOf(',', i)
      if (comma === -1) comma = end
      fields.push(comma === i ? null : text.slice(i, comma))
      i = comma
    }
    if (i >= end) return fields
    i++
  }
}

/** Settings under which PostgreSQL prints every value losslessly and in canonical text. */
export const PINNED_SETTINGS: Readonly<Record<string, string>> = {
  search_path: 'pg_catalog, pg_temp',
  timezone: 'UTC',
  datestyle: 'ISO, YMD',
  intervalstyle: 'postgres',
  bytea_output: 'hex',
  extra_float_digits: '1',
}
