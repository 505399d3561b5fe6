/** PostgreSQL's text forms of composites and arrays, and SQL quoting. */
import type { LogicalType } from '@tide/core/records/types'
import type { Value } from '@tide/core/records/value'

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

/** Reads a double-quoted part that begins at `start`; returns it unescaped, and the index behind it. */
function readQuoted(text: string, start: number): [string, number] {
  let value = ''
  let from = start + 1
  for (;;) {
    let i = from
    while (i < text.length && text[i] !== '"' && text[i] !== '\\') i++
    if (i >= text.length) throw new Error('a quoted value has no end')
    value += text.slice(from, i)
    if (text[i] === '\\' || text[i + 1] === '"') {
      value += text[i + 1]
      from = i + 2
    } else {
      return [value, i + 1]
    }
  }
}

type Nested = (string | null | Nested)[]

/** An array as `array_out` prints it, as nested lists of element texts. Lower bounds are left out. */
export function parseArray(text: string): Nested {
  const start = text.indexOf('{')
  if (start === -1) throw new Error('not an array value')
  return readArray(text, start)[0]
}

function readArray(text: string, start: number): [Nested, number] {
  const items: Nested = []
  let i = start + 1
  if (text[i] === '}') return [items, i + 1]
  for (;;) {
    if (text[i] === '{') {
      const [nested, next] = readArray(text, i)
      items.push(nested)
      i = next
    } else if (text[i] === '"') {
      const [value, next] = readQuoted(text, i)
      items.push(value)
      i = next
    } else {
      let stop = i
      while (text[stop] !== ',' && text[stop] !== '}') {
        if (++stop >= text.length) throw new Error('an array has no end')
      }
      const value = text.slice(i, stop)
      items.push(value.toUpperCase() === 'NULL' ? null : value)
      i = stop
    }
    if (text[i] === '}') return [items, i + 1]
    i++
  }
}

/** A value as PostgreSQL prints it under `PINNED_SETTINGS`, in canonical text. */
export function canonical(text: string | null, type: LogicalType): Value {
  if (text === null || type.kind !== 'list') return text
  return JSON.stringify(parseArray(text))
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
