import type { Dataset, DatasetName, Field } from '@tide/core/records/dataset'
import type { LogicalType } from '@tide/core/records/types'
import { postgresType } from '@tide/core/shape/postgres'
import type { Pool } from 'pg'
import type { Catalogue } from '@tide/core/api/browse'
import type { PostgresConfig } from './config.ts'
import { STATE_SCHEMA } from './state.ts'
import { ident } from './text.ts'

/** The schema that holds what we install at a source. */
export const CAPTURE_SCHEMA = 'constant_tide'

/** Tables up to this size on disk are counted exactly; larger ones are estimated by the server's statistics. */
const COUNT_UP_TO_BYTES = 64 * 2 ** 20

const TABLES = `
SELECT c.oid::text, n.nspname, c.relname, c.relkind::text AS kind, c.relreplident::text AS identity,
       c.relispartition AS partition, c.reltuples::bigint::text AS estimate,
       pg_catalog.pg_total_relation_size(c.oid)::text AS bytes
  FROM pg_catalog.pg_class c
  JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
 WHERE c.relkind IN ('r', 'p', 'v', 'm')
   AND n.nspname NOT IN ('pg_catalog', 'information_schema', '${CAPTURE_SCHEMA}', '${STATE_SCHEMA}')
   AND n.nspname NOT LIKE 'pg\\_%'
   AND c.relpersistence <> 't'
   AND pg_catalog.has_schema_privilege(n.oid, 'USAGE')
   AND pg_catalog.has_table_privilege(c.oid, 'SELECT')
 ORDER BY n.nspname, c.relname`

const SCHEMAS = `
SELECT nspname FROM pg_catalog.pg_namespace
 WHERE nspname NOT IN ('pg_catalog', 'information_schema', '${CAPTURE_SCHEMA}', '${STATE_SCHEMA}') AND nspname NOT LIKE 'pg\\_%'
 ORDER BY nspname`

const COLUMNS = `
SELECT a.attrelid::text AS oid, a.attname, a.attnotnull, a.attgenerated::text AS generated,
       a.atthasdef AS has_default, a.attidentity::text AS identity,
       pg_catalog.format_type(a.atttypid, a.atttypmod) AS native,
       coalesce(b.typname, t.typname) AS typname, coalesce(b.typcategory, t.typcategory)::text AS category,
       coalesce(b.typnamespace, t.typnamespace) = 'pg_catalog'::regnamespace AS built_in,
       (CASE WHEN b.oid IS NULL THEN a.atttypmod ELSE t.typtypmod END)::text AS typmod,
       e.typname AS element, e.typcategory::text AS element_category, e.typdelim::text AS delimiter,
       e.typnamespace = 'pg_catalog'::regnamespace AS element_built_in,
       (CASE WHEN b.oid IS NULL THEN a.attndims ELSE t.typndims END)::text AS dimensions
  FROM pg_catalog.pg_attribute a
  JOIN pg_catalog.pg_type t ON t.oid = a.atttypid
  LEFT JOIN pg_catalog.pg_type b ON t.typtype = 'd' AND b.oid = t.typbasetype
  LEFT JOIN pg_catalog.pg_type e ON e.oid = coalesce(b.typelem, t.typelem) AND e.typarray = coalesce(b.oid, t.oid)
 WHERE a.attnum > 0 AND NOT a.attisdropped AND a.attrelid = ANY ($1::oid[])
 ORDER BY a.attrelid, a.attnum`

/** Unique indexes over plain columns, the primary key first. */
const KEYS = `
SELECT i.indrelid::text AS oid, i.indisprimary, i.indisreplident, i.indimmediate,
       array_to_json(array(SELECT a.attname::text
               FROM unnest(i.indkey::int2[]) WITH ORDINALITY k(attnum, ordinal)
               JOIN pg_catalog.pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
              WHERE k.ordinal <= i.indnkeyatts
              ORDER BY k.ordinal))::text AS columns,
       (SELECT bool_and(a.attnotnull)
          FROM unnest(i.indkey::int2[]) k(attnum)
          JOIN pg_catalog.pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum) AS all_not_null
  FROM pg_catalog.pg_index i
 WHERE i.indisunique AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL
   AND i.indrelid = ANY ($1::oid[])
 ORDER BY i.indisprimary DESC, i.indexrelid`

/** Of a foreign key `f`: names of its own columns, or of those that it refers to, in their order; JSON. */
export const foreignKeyColumns = (side: 'con' | 'conf') =>
  `array_to_json(array(SELECT a.attname::text FROM unnest(f.${side}key) WITH ORDINALITY k(n, i)
     JOIN pg_catalog.pg_attribute a ON a.attrelid = f.${side}relid AND a.attnum = k.n ORDER BY k.i))::text`

const REFERENCES = `
SELECT f.conrelid::text AS oid, n.nspname, c.relname,
       ${foreignKeyColumns('con')} AS columns, ${foreignKeyColumns('conf')} AS by
  FROM pg_catalog.pg_constraint f
  JOIN pg_catalog.pg_class c ON c.oid = f.confrelid
  JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
 WHERE f.contype = 'f' AND f.conparentid = 0 AND f.conrelid = ANY ($1::oid[])
 ORDER BY f.oid`

/**
 * Reads tables and views with their columns, keys and sizes. What can be a key depends on how changes are captured:
 * the log tells old keys by the replica identity. `cursorColumn` matters to the cursor method alone.
 */
export async function readCatalogue(
  pool: Pool,
  method: PostgresConfig['method'],
  cursorColumn: string,
): Promise<Catalogue> {
  for (let tries = 1; ; tries++) {
    try {
      return await readOnce(pool, method, cursorColumn)
    } catch (error) {
      // Somebody has dropped a table since it was listed.
      if (!['42P01', '3F000'].includes((error as { code?: string }).code ?? '') || tries === 5) throw error
    }
  }
}

async function readOnce(
  pool: Pool,
  method: PostgresConfig['method'],
  cursorColumn: string,
): Promise<Catalogue> {
  const tables = (await pool.query(TABLES)).rows
  const oids = `{${tables.map(row => row.oid).join(',')}}`
  const columns = byOid((await pool.query(COLUMNS, [oids])).rows)
  const keys = byOid((await pool.query(KEYS, [oids])).rows)
  const references = byOid((await pool.query(REFERENCES, [oids])).rows)
  const datasets: Dataset[] = tables.map(row => ({
    namespace: row.nspname,
    name: row.relname,
    kind: row.kind === 'r' || row.kind === 'p' ? 'table' : 'view',
    fields: (columns.get(row.oid) ?? []).map(column => ({
      name: column.attname,
      type: typeOf(column),
      nativeType: column.native,
      nullable: column.attnotnull === 'f',
      ...(column.generated ? { computed: true } : {}),
      ...presetOf(column),
      ...(column.generated && method === 'log'
        ? { notCaptured: 'it is computed by the source, and its log does not tell it' }
        : {}),
    })),
    ...(method === 'log'
      ? logKey(row, keys.get(row.oid) ?? [])
      : chooseKey(row.kind, keys.get(row.oid) ?? [])),
    ...uniquesOf(keys.get(row.oid) ?? []),
    ...refersOf(references.get(row.oid)),
    ...(method === 'triggers' || (method === 'log' && row.identity === 'f')
      ? { tellsBefore: true as const }
      : {}),
    ...(method === 'log' && row.kind === 'p'
      ? { unseen: 'the log does not tell when a single partition is truncated, detached or dropped' }
      : {}),
    ...(method === 'cursor' ? byCursor(namesAndTypes(columns.get(row.oid)), cursorColumn) : {}),
    rows: Math.max(0, Number(row.estimate)),
    rowsExact: false,
    bytes: Number(row.bytes),
  }))
  await countSmallTables(pool, datasets)
  const schemas = (await pool.query(SCHEMAS)).rows.map(row => row.nspname as string)
  return { schemas, datasets }
}

function presetOf({ has_default, identity, generated }: Record<string, string>): Pick<Field, 'preset'> {
  if (identity === 'a') return { preset: 'always' }
  return identity === 'd' || (has_default === 't' && !generated) ? { preset: 'unsaid' } : {}
}

function refersOf(found: readonly Record<string, string>[] = []): Pick<Dataset, 'refers'> {
  if (found.length === 0) return {}
  return {
    refers: found.map(({ nspname, relname, columns, by }) => ({
      columns: JSON.parse(columns!) as string[],
      to: { namespace: nspname!, name: relname! },
      by: JSON.parse(by!) as string[],
    })),
  }
}

function typeOf(column: Record<string, string | null>): LogicalType {
  const { typname, typmod, category, element, element_category, delimiter, dimensions } = column
  return postgresType({
    typname: typname!,
    typmod: Number(typmod),
    category: category!,
    builtIn: column.built_in === 't',
    ...(element
      ? {
          element: {
            typname: element,
            category: element_category!,
            builtIn: column.element_built_in === 't',
          },
          delimiter: delimiter!,
          dimensions: Number(dimensions),
        }
      : {}),
  })
}

const namesAndTypes = (columns: readonly { attname: string; native: string }[] = []) =>
  columns.map(({ attname, native }) => ({ name: attname, nativeType: native }))

function byOid<T extends { oid: string }>(rows: T[]): Map<string, T[]> {
  const groups = new Map<string, T[]>()
  for (const row of rows) {
    const group = groups.get(row.oid)
    if (group) group.push(row)
    else groups.set(row.oid, [row])
  }
  return groups
}

/** Columns and key of some tables as they are now, in the order of the names; `undefined` for one that is not there. */
export async function readTables(
  pool: Pool,
  names: readonly DatasetName[],
): Promise<({ columns: { name: string; nativeType: string }[]; key: string[] } | undefined)[]> {
  const found = await pool.query(
    `SELECT c.oid::text, c.relkind::text AS kind, t.ordinal::text FROM unnest($1::text[]) WITH ORDINALITY t(name, ordinal)
       JOIN pg_catalog.pg_class c ON c.oid = to_regclass(t.name)`,
    [names.map(tableName)],
  )
  const oids = found.rows.map(({ oid }) => oid as string)
  const columns = byOid((await pool.query(COLUMNS, [oids])).rows)
  const keys = byOid((await pool.query(KEYS, [oids])).rows)
  return names.map((_, i) => {
    const row = found.rows.find(({ ordinal }) => Number(ordinal) === i + 1)
    if (!row) return undefined
    return {
      columns: namesAndTypes(columns.get(row.oid)),
      key: chooseKey(row.kind, keys.get(row.oid) ?? []).key,
    }
  })
}

/** Why the cursor cannot follow a table with these columns; `undefined`: it can. */
export function notByCursor(
  columns: readonly { name: string; nativeType: string }[],
  cursorColumn: string,
): string | undefined {
  const column = columns.find(({ name }) => name === cursorColumn)
  if (!column) return `it has no column ${cursorColumn}`
  if (!column.nativeType.startsWith('timestamp'))
    return `its ${cursorColumn} is ${column.nativeType}, not a timestamp`
  return undefined
}

/** Whether the cursor can follow a table, and what it does not see there. */
function byCursor(
  columns: readonly { name: string; nativeType: string }[],
  cursorColumn: string,
): Pick<Dataset, 'notFollowed' | 'unseen'> {
  const notFollowed = notByCursor(columns, cursorColumn)
  if (notFollowed) return { notFollowed }
  return {
    unseen: `deletions, changed keys, and writes that leave ${cursorColumn} as it is (or empty) are not seen`,
  }
}

interface KeyRow {
  indisprimary: string
  indisreplident: string
  indimmediate: string
  all_not_null: string
  columns: string
}

interface TableRow {
  kind: string
  identity: string
  partition: string
}

function uniquesOf(keys: readonly KeyRow[]): Pick<Dataset, 'uniques'> {
  const uniques = keys
    .filter(({ indimmediate, all_not_null }) => indimmediate === 't' && all_not_null === 't')
    .map(({ columns, indisprimary }) => ({
      columns: JSON.parse(columns) as string[],
      primary: indisprimary === 't',
    }))
  return uniques.length > 0 ? { uniques } : {}
}

type KeyChoice = { key: string[]; keyNote?: string }

/** The columns by which the log tells which row was changed or deleted. */
function logKey({ kind, identity, partition }: TableRow, keys: KeyRow[]): KeyChoice {
  const none = (keyNote: string): KeyChoice => ({ key: [], keyNote })
  if (kind === 'v' || kind === 'm') return none('Views have none; changes to them are not captured.')
  if (partition === 't') return none('It is a partition: choose its table, whose changes hold its own.')
  const usable = (key: KeyRow) => key.indimmediate === 't' && key.all_not_null === 't'
  const columns = (key: KeyRow | undefined) =>
    key ? { key: JSON.parse(key.columns) as string[] } : undefined
  switch (identity) {
    case 'n':
      return none('Its replica identity is NOTHING: the log does not tell which row was changed.')
    case 'i':
      return (
        columns(keys.find(key => key.indisreplident === 't' && usable(key))) ??
        none('The index of its replica identity is gone.')
      )
    case 'f':
      return (
        columns(keys.find(usable)) ??
        none('Its replica identity is FULL, but without a key equal rows cannot be told apart.')
      )
    default:
      return (
        columns(keys.find(key => key.indisprimary === 't' && usable(key))) ??
        none(
          keys.some(usable)
            ? 'Make its unique index the replica identity: ALTER TABLE … REPLICA IDENTITY USING INDEX ….'
            : 'The log does not tell which row was changed.',
        )
      )
  }
}

function chooseKey(kind: string, keys: KeyRow[]): KeyChoice {
  if (kind === 'v' || kind === 'm')
    return { key: [], keyNote: 'Views have none; changes to them are not captured.' }
  if (kind === 'p') return { key: [], keyNote: 'Partitioned tables are not followed; choose the partitions.' }
  const usable = keys.find(key => key.indimmediate === 't' && key.all_not_null === 't')
  if (usable) return { key: JSON.parse(usable.columns) }
  const deferrable = keys.some(key => key.all_not_null === 't')
  return deferrable
    ? { key: [], keyNote: 'Its key is deferrable, so one statement may swap keys.' }
    : { key: [] }
}

async function countSmallTables(pool: Pool, datasets: Dataset[]): Promise<void> {
  const small = datasets.filter(dataset => dataset.kind === 'table' && dataset.bytes <= COUNT_UP_TO_BYTES)
  const atOnce = 500 // a SELECT takes 1,664 columns at most
  for (let from = 0; from < small.length; from += atOnce) {
    const some = small.slice(from, from + atOnce)
    const counts = await pool.query({
      text: `SELECT ${some.map(dataset => `(SELECT count(*) FROM ${tableName(dataset)})`).join(', ')}`,
      rowMode: 'array',
    })
    some.forEach((dataset, i) => {
      dataset.rows = Number(counts.rows[0]![i])
      dataset.rowsExact = true
    })
  }
}

/** A table's quoted name. */
export function tableName({ namespace, name }: DatasetName): string {
  return `${ident(namespace)}.${ident(name)}`
}
