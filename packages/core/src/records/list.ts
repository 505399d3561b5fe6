/**
 * Lists as texts. The canonical text of a list is the one that PostgreSQL prints and reads: elements between braces,
 * nested where there are more dimensions, with the bounds before them where they do not begin at 1:
 * `[0:1]={"a b",NULL}`. https://www.postgresql.org/docs/current/arrays.html#ARRAYS-IO
 *
 * Journals of earlier versions hold lists as JSON arrays of texts; both are read.
 */

/** Elements as their canonical texts, nested by dimension. */
export type Nested = (string | null | Nested)[]

/** What a list's text says. Lower bounds are left out. Throws on anything that is no list. */
export function parseList(text: string, delimiter = ','): Nested {
  if (isJson(text)) return JSON.parse(text) as Nested
  const start = text.indexOf('{')
  if (start === -1) throw new Error('not a list')
  return readList(text, start, delimiter)[0]
}

/** A list as a JSON array of texts and nulls, for systems that know no lists of their own. */
export function listAsJson(text: string, delimiter?: string): string {
  return isJson(text) ? text : JSON.stringify(parseList(text, delimiter))
}

/** A list as PostgreSQL reads it. */
export function listLiteral(text: string, delimiter = ','): string {
  return isJson(text) ? printed(JSON.parse(text) as Nested, delimiter) : text
}

/** How deep a list is nested; 0 for one without elements, which fits any depth. */
export function depthOf(list: Nested): number {
  let [depth, at] = [0, list as string | null | Nested | undefined]
  for (; Array.isArray(at) && at.length > 0; at = at[0]) depth++
  return depth
}

/** Bounds begin with a digit or a sign; elements in JSON are texts, lists or nulls. */
function isJson(text: string): boolean {
  return /^\[["[\]n]/.test(text)
}

function printed(list: Nested, delimiter: string): string {
  const items = list.map(item => {
    if (item === null) return 'NULL'
    if (Array.isArray(item)) return printed(item, delimiter)
    return `"${item.replaceAll('\\', '\\\\').replaceAll('"', '\\"')}"`
  })
  return `{${items.join(delimiter)}}`
}

function readList(text: string, start: number, delimiter: string): [Nested, number] {
  const items: Nested = []
  let i = start + 1
  if (text[i] === '}') return [items, i + 1]
  for (;;) {
    if (text[i] === '{') {
      const [nested, next] = readList(text, i, delimiter)
      items.push(nested)
      i = next
    } else if (text[i] === '"') {
      const [value, next] = readQuoted(text, i)
      items.push(value)
      i = next
    } else {
      let stop = i
      while (text[stop] !== delimiter && text[stop] !== '}') {
        if (++stop >= text.length) throw new Error('a list has no end')
      }
      const value = text.slice(i, stop)
      items.push(value.toUpperCase() === 'NULL' ? null : value)
      i = stop
    }
    if (text[i] === '}') return [items, i + 1]
    i++
  }
}

/**
 * Reads a double-quoted part of a list or a composite that begins at `start`; returns it unescaped, and the index behind
 * it. Quotes and backslashes in it follow a backslash, quotes also another quote.
 */
export function readQuoted(text: string, start: number): [string, number] {
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
