/** Whether a statement can do nothing but ask, by DuckDB's own parse tree. */
import { misunderstood, notAQuestion, severalStatements } from '../question/refusal.ts'
import { FUNCTIONS, OPERATORS, TABLE_FUNCTIONS } from './functions.ts'
import type { DuckdbConnection } from './host.ts'

/** Classes of expressions, and types of everything else in the tree. */
const EXPRESSIONS = new Set(
  `CONSTANT COLUMN_REF FUNCTION WINDOW OPERATOR CONJUNCTION COMPARISON BETWEEN CASE CAST COLLATE STAR SUBQUERY LAMBDA
   LAMBDA_REF POSITIONAL_REFERENCE`.split(/\s+/),
)
const PARTS = new Set(
  `SELECT_NODE SET_OPERATION_NODE RECURSIVE_CTE_NODE CTE_NODE EMPTY BASE_TABLE SUBQUERY JOIN EXPRESSION_LIST TABLE_FUNCTION
   SHOW_REF PIVOT ORDER_MODIFIER LIMIT_MODIFIER LIMIT_PERCENT_MODIFIER DISTINCT_MODIFIER ORDER_DEFAULT ASCENDING DESCENDING`.split(
    /\s+/,
  ),
)
/** Where built-in functions live. */
const SCHEMAS = new Set(['', 'main', 'pg_catalog'])
/** Names that no file has. */
const PLAIN_NAME = /^[^./\\:*?[\]]+$/

type Fields = Record<string, unknown>

interface TableUsed {
  catalog: string
  schema: string
  name: string
}

/** The statement to run; throws, naming it, when a part of it is not known to be harmless. */
export async function questionIn(connection: DuckdbConnection, sql: string): Promise<string> {
  const count = sql.trim() === '' ? 0 : await connection.statements(sql)
  if (count !== 1) throw severalStatements(count)
  const explained = /^\s*EXPLAIN\s+(?!ANALYZE\b|\()/i.exec(sql)
  const asked = explained ? sql.slice(explained[0].length) : sql
  const [[json] = []] = await connection.ask('SELECT json_serialize_sql($1::VARCHAR)', [asked])
  const tree = JSON.parse(String(json)) as { error: boolean; error_message?: string; statements?: unknown[] }
  if (tree.error) {
    const message = tree.error_message ?? ''
    throw /Only SELECT/.test(message) ? notAQuestion(firstWords(sql)) : misunderstood(message)
  }
  await refuseStrangers(connection, tablesIn(tree.statements![0]))
  return `${explained ? 'EXPLAIN ' : ''}${asked}`
}

/** Refuses parts that are no question's. Gives the tables that it reads, but for those of its own WITH. */
export function tablesIn(root: unknown): TableUsed[] {
  const tables: TableUsed[] = []
  const own = new Set<string>()
  const left: unknown[] = [root]
  while (left.length > 0) {
    const next = left.pop()
    if (Array.isArray(next)) left.push(...(next as unknown[]))
    else if (next !== null && typeof next === 'object') {
      refusePart(next as Fields)
      const { function: called, ...rest } = next as Fields
      const { type, table_name, schema_name, catalog_name, cte_map } = next as Record<string, string>
      if (type === 'BASE_TABLE')
        tables.push({ catalog: catalog_name!, schema: schema_name!, name: table_name! })
      for (const { key } of (cte_map as { map?: { key: string }[] } | undefined)?.map ?? [])
        own.add(key.toLowerCase())
      // The name of a function that stands where a table does was looked at; of its own it would be another's.
      left.push(...Object.values(rest), (called as Fields | undefined)?.children)
    }
  }
  return tables.filter(
    ({ schema, name }) => !(schema === '' && own.has(name.toLowerCase()) && PLAIN_NAME.test(name)),
  )
}

function refusePart(part: Fields): void {
  const {
    class: expression,
    type,
    function_name: name,
    schema = '',
    catalog = '',
  } = part as Record<string, string>
  if (expression !== undefined) {
    if (!EXPRESSIONS.has(expression))
      throw notAQuestion(expression === 'PARAMETER' ? 'A parameter such as $1' : expression)
  } else if (typeof type === 'string' && !PARTS.has(type) && !type.endsWith('_TYPE_INFO'))
    throw notAQuestion(type)
  if (type === 'TABLE_FUNCTION') {
    const called = part.function as Record<string, string>
    if (!TABLE_FUNCTIONS.has(called.function_name!.toLowerCase()) || !SCHEMAS.has(called.schema!))
      throw notAQuestion(`The function ${called.function_name}()`)
  } else if (name !== undefined) {
    const known = FUNCTIONS.has(name.toLowerCase()) || OPERATORS.has(name)
    if (!known || !SCHEMAS.has(schema) || (catalog !== '' && catalog !== 'system'))
      throw notAQuestion(`The function ${schema === '' ? '' : `${schema}.`}${name}()`)
  }
}

/** A table that is not in the catalogue may be a file; what is temporary was made by us for this very question. */
async function refuseStrangers(connection: DuckdbConnection, used: readonly TableUsed[]): Promise<void> {
  for (const { catalog, schema, name } of used) {
    const found = await connection.ask(
      `SELECT 1 FROM (SELECT database_name, schema_name, table_name AS name FROM duckdb_tables()
                      UNION ALL SELECT database_name, schema_name, view_name FROM duckdb_views())
        WHERE lower(name) = lower($1) AND ($2 = '' OR lower(schema_name) = lower($2)) AND ($3 = '' OR database_name = $3)
          AND database_name IN (current_database(), 'system', 'temp') LIMIT 1`,
      [name, schema, catalog],
    )
    // `database.table` is read like `schema.table`.
    if (found.length > 0 || (catalog === '' && schema !== '' && (await isIn(connection, schema, name))))
      continue
    throw misunderstood(`There is no table ${[catalog, schema, name].filter(Boolean).join('.')} here.`)
  }
}

async function isIn(connection: DuckdbConnection, database: string, name: string): Promise<boolean> {
  const found = await connection.ask(
    `SELECT 1 FROM duckdb_tables() WHERE table_name = $2 AND database_name = $1 AND $1 = current_database() LIMIT 1`,
    [database, name],
  )
  return found.length > 0
}

const firstWords = (sql: string) => /^\s*(\w+(?:\s+ANALYZE\b)?)/i.exec(sql)?.[1]?.toUpperCase() ?? 'This'
