/** A definition as a file that people keep with their code: YAML or JSON, connections by name, nothing that is secret. */
import { canonicalJson } from './canonical-json.ts'
import { isMap, isSeq, parseDocument, Document } from 'yaml'
import { Failure } from '../failure.ts'
import type { Definition } from './definition.ts'
import type { SendDefinition } from './send.ts'

/** A connection's or a saved query's name for its id, or the other way round; undefined: there is none. */
export type Lookup = (text: string, of: 'connection' | 'saved query') => string | undefined

/** Lists that say nothing are left out; what is gone is named by its id. */
export function fileOf(definition: Definition, nameOf: Lookup): Definition {
  const named = {
    ...definition,
    from: fromWith(definition.from, id => nameOf(id, 'connection') ?? id),
    to: nameOf(definition.to, 'connection') ?? definition.to,
    ...whatWith(definition, id => nameOf(id, 'saved query') ?? id),
  }
  const entries = Object.entries(named).filter(([, value]) => !(Array.isArray(value) && value.length === 0))
  return Object.fromEntries(entries) as Definition
}

/** As people would write it: what a thing is before what is done to it. What is not named here comes in between. */
const FIRST = 'version shape name from originColumn to targetSchema does'.split(' ')
const OWN_FIRST = 'namespace name connection tag names take like add column op'.split(' ')
const OWN_LAST = ['does', 'where', 'value']

/** The store gives properties back in an order of its own. */
function ordered(value: unknown, first: readonly string[], last: readonly string[]): unknown {
  if (Array.isArray(value)) return value.map(one => ordered(one, OWN_FIRST, OWN_LAST))
  if (typeof value !== 'object' || value === null) return value
  const rank = (name: string) => {
    const [before, after] = [first.indexOf(name), last.indexOf(name)]
    return before >= 0 ? before - first.length : after + 1
  }
  const entries = Object.entries(value).sort(([a], [b]) => rank(a) - rank(b))
  return Object.fromEntries(entries.map(([name, one]) => [name, ordered(one, OWN_FIRST, OWN_LAST)]))
}

/** As YAML; a table, a rule or a pattern takes a line. */
export function printFile(file: Definition): string {
  const document = new Document(ordered(file, FIRST, []))
  for (const list of ['from', 'tables', 'without', 'patterns', 'names', 'columns', 'scopes', 'lanes']) {
    const items: unknown = document.get(list)
    if (!isSeq(items)) continue
    for (const item of items.items) if (isMap(item)) item.flow = true
  }
  return document.toString({ lineWidth: 0, flowCollectionPadding: false })
}

/** What a file says, not yet held against any schema. Throws a Failure that names the line. */
export function readFile(text: string): unknown {
  const document = parseDocument(text, { prettyErrors: true, uniqueKeys: true })
  const [error] = document.errors
  if (error) {
    const [at] = error.linePos ?? []
    throw new Failure(
      'refused',
      `The file cannot be read${at ? ` from line ${at.line}, column ${at.col} on` : ''}: ${error.message.split('\n')[0]}.`,
      'Correct it there; it is YAML or JSON.',
    )
  }
  try {
    // Aliases could make a small file a huge value.
    return document.toJS({ maxAliasCount: 0 })
  } catch (cause) {
    throw new Failure('refused', 'The file refers to parts of itself.', 'Write them out.', cause)
  }
}

/** The definition of a file, with connections by id. Throws a Failure for a connection that is not there. */
export function definitionOf(file: Definition, idOf: Lookup): Definition {
  const id = (what: string, name: string, of: 'connection' | 'saved query' = 'connection'): string => {
    if (name === '') return ''
    const found = idOf(name, of)
    if (found !== undefined) return found
    throw new Failure(
      'refused',
      `${what}: there is no ${of} “${name}”.`,
      'Name one that is there, or make it first.',
    )
  }
  const to = id('to', file.to ?? '')
  // What is not one of the known shapes is refused by the schemas.
  if (file.shape === 'send')
    return {
      ...file,
      key: file.key ?? [],
      meets: file.meets ?? [],
      fields: file.fields ?? [],
      from: id('from', file.from ?? ''),
      to,
      ...whatWith(file, name => id('what', name, 'saved query')),
    }
  if (file.shape === 'two-way')
    return { ...file, lanes: file.lanes ?? [], from: id('from', file.from ?? ''), to }
  return { ...file, tables: file.tables ?? [], from: fromWith(file.from ?? '', name => id('from', name)), to }
}

function whatWith(definition: Definition, query: (text: string) => string): Pick<SendDefinition, 'what'> {
  if (definition.shape !== 'send') return {}
  const { what } = definition
  // What is none of the known kinds is refused by the schemas.
  if (typeof what !== 'object' || what === null || !('query' in what)) return {}
  return { what: { ...what, query: query(String(what.query)) } }
}

function fromWith(from: Definition['from'], connection: (text: string) => string): Definition['from'] {
  return typeof from === 'string'
    ? connection(from)
    : from.map(origin => ({ ...origin, connection: connection(origin.connection) }))
}

/** Whether two definitions do the same. Lists that say nothing make no difference. */
export function sameDefinition(a: Definition, b: Definition): boolean {
  const bare = (definition: Definition) => canonicalJson(fileOf(definition, id => id))
  return bare(a) === bare(b)
}
