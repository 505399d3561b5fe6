import type { DatasetName } from '@tide/core/records/dataset'

export interface SchemaChange {
  /** `truncated`: all rows went, the table is as it was. `replaced`: what follows is another table, or none. */
  kind: 'truncated' | 'replaced'
  tables: DatasetName[]
}

/** A name as statements write it, with or without its database. */
const NAME = '(?:(`(?:[^`]|``)+`|[\\w$\\u0080-\\uffff]+)\\s*\\.\\s*)?(`(?:[^`]|``)+`|[\\w$\\u0080-\\uffff]+)'

/**
 * What a statement in the log does to the rows of these tables without telling them. `schema` is the database it ran
 * in. Changed columns are not among it: the table's next row tells of them.
 */
export function schemaChange(
  sql: string,
  schema: string,
  tables: readonly DatasetName[],
): SchemaChange | undefined {
  const plain = sql
    .replace(/\/\*(?![!M])[\s\S]*?\*\//g, ' ')
    .replace(/\/\*[!M]\d*|\*\//g, ' ')
    .trim()
  const truncate = new RegExp(`^TRUNCATE\\s+(?:TABLE\\s+)?${NAME}`, 'i').exec(plain)
  if (truncate) return changed('truncated', [named(truncate, schema)], tables)
  const dropDatabase = new RegExp(`^DROP\\s+(?:DATABASE|SCHEMA)\\s+(?:IF\\s+EXISTS\\s+)?${NAME}`, 'i').exec(
    plain,
  )
  if (dropDatabase) {
    const gone = unquoted(dropDatabase[2]!)
    return changed(
      'replaced',
      tables.filter(({ namespace }) => same(namespace, gone)),
      tables,
    )
  }
  const replaces =
    /^(DROP\s+TABLE|RENAME\s+TABLE|CREATE\s+OR\s+REPLACE\s+TABLE)\b/i.test(plain) ||
    /^ALTER\s+(ONLINE\s+|IGNORE\s+)*TABLE\b[\s\S]*\b(RENAME\s+(TO|AS)?\s*[`\w]|(DROP|TRUNCATE|EXCHANGE|CONVERT)\s+PARTITION)/i.test(
      plain,
    )
  if (!replaces) return undefined
  // Any name that is written is taken for one that is meant.
  const names = [...plain.matchAll(new RegExp(NAME, 'gi'))].map(match => named(match, schema))
  return changed('replaced', names, tables)
}

function changed(
  kind: SchemaChange['kind'],
  names: readonly DatasetName[],
  tables: readonly DatasetName[],
): SchemaChange | undefined {
  const meant = tables.filter(table =>
    names.some(({ namespace, name }) => same(namespace, table.namespace) && same(name, table.name)),
  )
  return meant.length > 0 ? { kind, tables: meant } : undefined
}

function named(match: RegExpMatchArray, schema: string): DatasetName {
  return { namespace: match[1] ? unquoted(match[1]) : schema, name: unquoted(match[2]!) }
}

function unquoted(name: string): string {
  return name.startsWith('`') ? name.slice(1, -1).replaceAll('``', '`') : name
}

/** Servers on some systems fold names; taking too many for meant does no harm. */
function same(a: string, b: string): boolean {
  return a.toLowerCase() === b.toLowerCase()
}
