/** What can stand at a place of a file, by the schema that files are of. */
import { isMap, isScalar, isSeq, parseDocument, type Node } from 'yaml'

export interface Completions {
  /** Where what is typed already begins. */
  from: number
  options: Completion[]
}

export interface Completion {
  text: string
  what: 'field' | 'value' | 'connection'
  /** The field's title. */
  says: string
}

/** A JSON Schema, as far as it is looked into here. */
export interface FileSchema {
  title?: string
  type?: string
  const?: unknown
  enum?: unknown[]
  anyOf?: FileSchema[]
  properties?: Record<string, FileSchema>
  items?: FileSchema
  $ref?: string
  $defs?: Record<string, FileSchema>
}

/** Stands where something is typed. */
const MARK = 'constant\u2063tide'

/** `at`: where in the text somebody types. `connections`: their names. */
export function completionsAt(
  text: string,
  at: number,
  schema: FileSchema,
  connections: readonly string[],
): Completions | undefined {
  const typed = /[\w.-]*$/.exec(text.slice(0, at))![0]
  const from = at - typed.length
  const [before, rest] = [text.slice(0, from), text.slice(at)]
  const [asField, asValue] = [`${before}${MARK}: ${rest}`, `${before}${MARK}${rest}`]
  for (const marked of /[:-]\s+$/.test(before) ? [asValue, asField] : [asField, asValue]) {
    const place = placeOf(marked)
    if (!place) continue
    const found = schemasAt(schema, place.path)
    const options = place.isField
      ? fieldsOf(found, schema).filter(({ text }) => !place.present.includes(text))
      : valuesOf(found, schema, connections)
    const fitting = options.filter(
      ({ text }) => text.toLowerCase().startsWith(typed.toLowerCase()) && text !== typed,
    )
    if (fitting.length > 0) return { from, options: fitting }
  }
  return undefined
}

interface Place {
  /** Names and places within lists, from the outermost on; of a field, those of the thing that has it. */
  path: (string | number)[]
  isField: boolean
  /** Fields that it has already. */
  present: string[]
}

function placeOf(marked: string): Place | undefined {
  const document = parseDocument(marked, { prettyErrors: false })
  return document.contents ? search(document.contents, []) : undefined
}

function search(node: Node, path: Place['path']): Place | undefined {
  if (isScalar(node)) return node.value === MARK ? { path, isField: false, present: [] } : undefined
  if (isSeq(node)) {
    for (const [i, item] of node.items.entries()) {
      const found = search(item as Node, [...path, i])
      if (found) return found
    }
  }
  if (!isMap(node)) return undefined
  const names = node.items.map(({ key }) => (isScalar(key) ? String(key.value) : ''))
  for (const [i, { value }] of node.items.entries()) {
    if (names[i] === MARK) return { path, isField: true, present: names.filter(name => name !== MARK) }
    const found = value ? search(value as Node, [...path, names[i]!]) : undefined
    if (found) return found
  }
  return undefined
}

/** All that a thing at this place may be. */
function schemasAt(schema: FileSchema, path: Place['path']): FileSchema[] {
  let at = unfolded([schema], schema)
  for (const part of path) {
    const next = at.flatMap(({ properties, items }) =>
      typeof part === 'number' ? (items ?? []) : (properties?.[part] ?? []),
    )
    at = unfolded(next, schema)
  }
  return at
}

/** With the alternatives in the place of what has them. */
function unfolded(schemas: readonly FileSchema[], root: FileSchema): FileSchema[] {
  return schemas.flatMap(one => {
    if (one.$ref !== undefined) return unfolded(definitionsOf(root, one.$ref.replace(/^.*\//, '')), root)
    const within = one.$defs && Object.values(one.$defs)
    return one.anyOf ? unfolded(one.anyOf, root) : within ? unfolded(within, root) : [one]
  })
}

/** A schema that refers to itself says under which name, somewhere. */
function definitionsOf(schema: FileSchema, name: string): FileSchema[] {
  const own = schema.$defs?.[name]
  if (own) return [own]
  const parts = [
    ...(schema.anyOf ?? []),
    ...Object.values(schema.properties ?? {}),
    ...(schema.items ? [schema.items] : []),
  ]
  for (const part of parts) {
    const found = definitionsOf(part, name)
    if (found.length > 0) return found
  }
  return []
}

function fieldsOf(schemas: readonly FileSchema[], root: FileSchema): Completion[] {
  const fields = new Map<string, Completion>()
  for (const { properties = {} } of schemas) {
    for (const [text, one] of Object.entries(properties)) {
      const says = one.title ?? unfolded([one], root).find(({ title }) => title)?.title ?? ''
      if (!fields.has(text)) fields.set(text, { text, what: 'field', says })
    }
  }
  return [...fields.values()]
}

function valuesOf(
  schemas: readonly FileSchema[],
  root: FileSchema,
  connections: readonly string[],
): Completion[] {
  const values = schemas.flatMap((one): Completion[] => {
    if (one.title === CONNECTION) return connections.map(text => ({ text, what: 'connection', says: '' }))
    const said = one.const === undefined ? (one.enum ?? []) : [one.const]
    return said.map(value => ({ text: String(value), what: 'value', says: one.title ?? '' }))
  })
  // Where a thing with fields is wanted, it is begun by one of them.
  const fields = fieldsOf(schemas, root).map(one => ({ ...one, text: `{ ${one.text}: ` }))
  return values.length > 0 ? values : fields
}

/** The title of what names a connection. */
export const CONNECTION = 'The name of a connection'
