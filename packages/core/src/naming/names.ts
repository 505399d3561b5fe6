/** Every name before and after the rules, and which of them meet at the target. */
import type { Dataset } from '../records/dataset.ts'
import type { Named, Namer } from './namer.ts'

export interface ShownName extends Named {
  kind: 'schemas' | 'tables' | 'columns'
  /** Schema; schema and table; or schema, table and column, at the source. */
  path: string[]
  /** Within what its name must be its own: a schema's tables, a table's columns. */
  scope: string
  /** Equal for names that are the same to the target, of those within the scope. */
  key: string
  /** The source name that became the same before it. */
  meets?: string[]
}

/**
 * Schemas, each followed by its tables, each followed by its columns. Two schemas may become one: their tables go into it
 * together.
 */
export function namesOf(
  datasets: readonly Dataset[],
  namer: Namer,
  { nameKey }: { nameKey(name: string): string },
): ShownName[] {
  const names: ShownName[] = []
  const add = (
    kind: ShownName['kind'],
    path: string[],
    scope: string,
    first: Map<string, string[]>,
    { name, by, refused }: Named,
  ): void => {
    const key = nameKey(name)
    const shown: ShownName = { kind, path, scope, key, name, by }
    if (refused !== undefined) shown.refused = refused
    const meets = kind === 'schemas' ? undefined : first.get(key)
    if (meets) shown.meets = meets
    else first.set(key, path)
    names.push(shown)
  }
  const schemas = new Map<string, string[]>()
  const tables = new Map<string, Map<string, string[]>>()
  let last: string | undefined
  for (const dataset of bySchema(datasets)) {
    const { namespace, name, fields } = dataset
    const schema = namer.schema(dataset)
    if (namespace !== last) add('schemas', [namespace], 'schemas', schemas, schema)
    last = namespace
    const table = namer.table(dataset)
    const inSchema = `tables of ${nameKey(schema.name)}`
    const others = tables.get(inSchema) ?? new Map<string, string[]>()
    tables.set(inSchema, others)
    add('tables', [namespace, name], inSchema, others, table)
    const columns = new Map<string, string[]>()
    const inTable = `columns of ${JSON.stringify([namespace, name])}`
    for (const field of fields) {
      if (field.notCaptured) continue
      const named = namer.column(dataset, field.name)
      add('columns', [namespace, name, field.name], inTable, columns, named)
    }
  }
  return names
}

function bySchema(datasets: readonly Dataset[]): Dataset[] {
  const schemas = new Map<string, Dataset[]>()
  for (const dataset of datasets) {
    const members = schemas.get(dataset.namespace)
    if (members) members.push(dataset)
    else schemas.set(dataset.namespace, [dataset])
  }
  return [...schemas.values()].flat()
}
