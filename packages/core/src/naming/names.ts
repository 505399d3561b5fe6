/** Every name before and after the rules, and which of them meet at the target. */
import type { Dataset } from '../records/dataset.ts'
import type { Named, Namer } from './namer.ts'

export interface ShownName extends Named {
  kind: 'schemas' | 'tables' | 'columns'
  /** Schema; schema and table; or schema, table and column, at the source. */
  path: string[]
  /** Within what its name must be its own: a schema's tables, a table's columns. */
  scope: string
  /** Equal for names that are the same to the target, within the scope. */
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
  const first = new Map<string, string[]>()
  const add = (kind: ShownName['kind'], path: string[], scope: string, named: Named): void => {
    const key = `${scope}\n${nameKey(named.name)}`
    const meets = kind === 'schemas' ? undefined : first.get(key)
    if (!meets) first.set(key, path)
    names.push({ kind, path, scope, key, ...named, ...(meets ? { meets } : {}) })
  }
  let last: string | undefined
  for (const dataset of bySchema(datasets)) {
    const { namespace, name, fields } = dataset
    const schema = namer.schema(dataset)
    if (namespace !== last) add('schemas', [namespace], 'schemas', schema)
    last = namespace
    const table = namer.table(dataset)
    const inSchema = `tables of ${nameKey(schema.name)}`
    add('tables', [namespace, name], inSchema, table)
    const inTable = `columns of ${JSON.stringify([namespace, name])}`
    for (const field of fields) {
      if (field.notCaptured) continue
      add('columns', [namespace, name, field.name], inTable, namer.column(dataset, field.name))
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
