import type { Catalogue } from '@tide/core/api/browse'
import { datasetId, type Dataset, type DatasetName, type Field } from '@tide/core/records/dataset'
import type { LogicalType } from '@tide/core/records/types'
import { mariadbType } from '@tide/core/shape/mariadb'
import type { Session } from './client.ts'
import { literal, tableName } from './sql.ts'

/** The database that holds our checkpoints at a target. */
export const STATE_DATABASE = 'constant_tide_target'

const SYSTEM = `('mysql', 'information_schema', 'performance_schema', 'sys', '${STATE_DATABASE}')`

/** Tables up to this size are counted exactly; larger ones are estimated by the server's statistics. */
const COUNT_UP_TO_BYTES = 16 * 2 ** 20

const COLUMNS = `
SELECT table_schema AS namespace, table_name AS name, column_name AS field, data_type AS data_type, column_type AS native,
       is_nullable = 'YES' AS nullable, extra AS extra, coalesce(column_default, 'NULL') <> 'NULL' AS has_default, generation_expression AS expression,
       concat('CHARACTER SET ', character_set_name, ' COLLATE ', collation_name) AS collation
  FROM information_schema.columns`

interface ColumnRow {
  namespace: string
  name: string
  field: string
  data_type: string
  native: string
  nullable: string
  extra: string
  has_default: string
  expression: string | null
  collation: string | null
}

/** Reads tables and views with their columns, keys and sizes. */
export async function readCatalogue(session: Session): Promise<Catalogue> {
  const where = `WHERE table_schema NOT IN ${SYSTEM}`
  const tables = await session.rows<Record<string, string | null>>(
    `SELECT table_schema AS namespace, table_name AS name, table_type AS kind, table_rows AS estimate,
            coalesce(data_length, 0) + coalesce(index_length, 0) AS bytes
       FROM information_schema.tables ${where} ORDER BY 1, 2`,
  )
  const columns = grouped(
    await session.rows<ColumnRow>(`${COLUMNS} ${where} ORDER BY 1, 2, ordinal_position`),
  )
  const keys = grouped(
    await session.rows<DatasetName & IndexRow>(
      `SELECT table_schema AS namespace, table_name AS name, index_name AS \`constraint\`, column_name AS field,
              nullable = 'YES' AS nullable, sub_part AS part
         FROM information_schema.statistics ${where} AND non_unique = 0
        ORDER BY 1, 2, index_name <> 'PRIMARY', index_name, seq_in_index`,
    ),
  )
  const cascades = grouped(
    await session.rows<DatasetName & { constraint: string }>(
      `SELECT constraint_schema AS namespace, table_name AS name, constraint_name AS \`constraint\`
         FROM information_schema.referential_constraints
        WHERE delete_rule NOT IN ('RESTRICT', 'NO ACTION') OR update_rule NOT IN ('RESTRICT', 'NO ACTION')`,
    ),
  )
  const references = grouped(
    await session.rows<DatasetName & ReferenceRow>(
      `SELECT table_schema AS namespace, table_name AS name, constraint_name AS \`constraint\`, column_name AS field,
              referenced_table_schema AS to_namespace, referenced_table_name AS to_name, referenced_column_name AS to_field
         FROM information_schema.key_column_usage ${where} AND referenced_table_name IS NOT NULL
        ORDER BY 1, 2, constraint_name, ordinal_position`,
    ),
  )
  const [image] = await session.arrays('SELECT @@GLOBAL.binlog_row_image')
  const tellsBefore = image?.[0] === 'FULL' ? { tellsBefore: true as const } : {}
  const datasets = tables.map((row): Dataset => {
    const table: DatasetName = { namespace: row.namespace!, name: row.name! }
    const view = row.kind !== 'BASE TABLE'
    return {
      ...table,
      kind: view ? 'view' : 'table',
      fields: (columns.get(datasetId(table)) ?? []).map(fieldOf),
      ...(view
        ? { key: [], keyNote: 'Views have none; changes to them are not captured.' }
        : chooseKey(keys.get(datasetId(table)) ?? [])),
      ...uniquesOf(keys.get(datasetId(table)) ?? []),
      ...refersOf(references.get(datasetId(table))),
      ...tellsBefore,
      ...notFollowed(cascades.get(datasetId(table))),
      rows: Number(row.estimate ?? 0),
      rowsExact: false,
      bytes: Number(row.bytes),
    }
  })
  await countSmallTables(session, datasets)
  const schemas = await session.rows<{ name: string }>(
    `SELECT schema_name AS name FROM information_schema.schemata WHERE schema_name NOT IN ${SYSTEM} ORDER BY 1`,
  )
  return { schemas: schemas.map(({ name }) => name), datasets }
}

interface ReferenceRow {
  constraint: string
  field: string
  to_namespace: string
  to_name: string
  to_field: string
}

function refersOf(rows: readonly ReferenceRow[] = []): Pick<Dataset, 'refers'> {
  const found = new Map<string, NonNullable<Dataset['refers']>[number]>()
  for (const { constraint, field, to_namespace, to_name, to_field } of rows) {
    const one = found.get(constraint) ?? {
      columns: [],
      to: { namespace: to_namespace, name: to_name },
      by: [],
    }
    one.columns.push(field)
    one.by.push(to_field)
    found.set(constraint, one)
  }
  return found.size > 0 ? { refers: [...found.values()] } : {}
}

/** The columns of one table, in order; none when it is not there. */
export async function tableFields(session: Session, { namespace, name }: DatasetName): Promise<Field[]> {
  const rows = await session.rows<ColumnRow>(
    `${COLUMNS} WHERE table_schema = ${literal(namespace)} AND table_name = ${literal(name)} ORDER BY ordinal_position`,
  )
  return rows.map(fieldOf)
}

function fieldOf(row: ColumnRow): Field {
  const generated = /GENERATED/i.test(row.extra) || (row.expression ?? '') !== ''
  const type = mariadbType(row.data_type, row.native)
  const untold = notTold(row, type)
  return {
    name: row.field,
    type,
    nativeType: row.native,
    ...(row.collation ? { collation: row.collation } : {}),
    nullable: row.nullable === '1',
    ...(generated ? { computed: true } : {}),
    ...(!generated && (row.has_default === '1' || /auto_increment/i.test(row.extra))
      ? { preset: 'unsaid' as const }
      : {}),
    ...(generated ? { notCaptured: 'it is computed by the source' } : {}),
    ...(untold ? { notCaptured: untold } : {}),
  }
}

/** Why the log's values of such a column cannot be read. */
function notTold({ data_type }: ColumnRow, type: LogicalType): string | undefined {
  if (type.kind === 'other' && data_type !== 'time') return `the log tells ${data_type} in a form of its own`
  return undefined
}

/** What a foreign key does to rows by itself, InnoDB does beneath the log. */
function notFollowed(cascades: { constraint: string }[] | undefined): Pick<Dataset, 'notFollowed'> {
  if (!cascades) return {}
  const names = cascades.map(({ constraint }) => constraint).join(', ')
  return {
    notFollowed: `its foreign key ${names} changes or deletes rows by itself (ON DELETE or ON UPDATE), which the log does not tell`,
  }
}

interface IndexRow {
  constraint: string
  field: string
  nullable: string
  /** How many characters of the column are in the index; null: all. */
  part: string | null
}

/** Also those over nullable columns or beginnings of values: rows are replaced by any of them. */
function uniquesOf(rows: readonly IndexRow[]): Pick<Dataset, 'uniques'> {
  const uniques = [...byIndex(rows)].map(([name, index]) => ({
    columns: index.map(({ field, part }) => (part === null ? field : `${field}(${part})`)),
    primary: name === 'PRIMARY',
  }))
  return uniques.length > 0 ? { uniques } : {}
}

function byIndex(rows: readonly IndexRow[]): Map<string, IndexRow[]> {
  const indexes = new Map<string, IndexRow[]>()
  for (const row of rows) indexes.set(row.constraint, [...(indexes.get(row.constraint) ?? []), row])
  return indexes
}

/** A whole index over columns that are never null. One that holds only the beginnings of values tells no rows apart. */
function chooseKey(rows: IndexRow[]): Pick<Dataset, 'key' | 'keyNote'> {
  const notNull = [...byIndex(rows).values()].filter(index => index.every(({ nullable }) => nullable === '0'))
  const usable = notNull.find(index => index.every(({ part }) => part === null))
  if (usable) return { key: usable.map(({ field }) => field) }
  const short = notNull[0]?.find(({ part }) => part !== null)
  if (!short) return { key: [] }
  const keyNote = `Its unique index ${short.constraint} holds only the first ${short.part} characters of ${short.field}, which no target can carry.`
  return { key: [], keyNote }
}

function grouped<T extends DatasetName>(rows: T[]): Map<string, T[]> {
  const groups = new Map<string, T[]>()
  for (const row of rows) {
    const group = groups.get(datasetId(row))
    if (group) group.push(row)
    else groups.set(datasetId(row), [row])
  }
  return groups
}

async function countSmallTables(session: Session, datasets: Dataset[]): Promise<void> {
  for (const dataset of datasets) {
    if (dataset.kind !== 'table' || dataset.bytes > COUNT_UP_TO_BYTES) continue
    try {
      const [row] = await session.rows<{ n: string }>(`SELECT count(*) AS n FROM ${tableName(dataset)}`)
      dataset.rows = Number(row!.n)
      dataset.rowsExact = true
    } catch (error) {
      // Somebody has dropped it since it was listed; then its rows stay an estimate.
      if ((error as { code?: string }).code !== 'ER_NO_SUCH_TABLE') throw error
    }
  }
}
