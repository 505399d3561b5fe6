import type { Catalogue } from '@tide/core/api/browse'
import { datasetId, type Dataset, type DatasetName, type Field } from '@tide/core/records/dataset'
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
       is_nullable = 'YES' AS nullable, extra AS extra, generation_expression AS expression
  FROM information_schema.columns`

interface ColumnRow {
  namespace: string
  name: string
  field: string
  data_type: string
  native: string
  nullable: string
  extra: string
  expression: string | null
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
    await session.rows<{
      namespace: string
      name: string
      constraint: string
      field: string
      nullable: string
    }>(
      `SELECT table_schema AS namespace, table_name AS name, index_name AS \`constraint\`, column_name AS field,
              nullable = 'YES' AS nullable
         FROM information_schema.statistics ${where} AND non_unique = 0 AND sub_part IS NULL
        ORDER BY 1, 2, index_name <> 'PRIMARY', index_name, seq_in_index`,
    ),
  )
  const datasets = tables.map((row): Dataset => {
    const table: DatasetName = { namespace: row.namespace!, name: row.name! }
    const view = row.kind !== 'BASE TABLE'
    const key = chooseKey(keys.get(datasetId(table)) ?? [])
    return {
      ...table,
      kind: view ? 'view' : 'table',
      fields: (columns.get(datasetId(table)) ?? []).map(fieldOf),
      key,
      ...(view ? { keyNote: 'Views have none; changes to them are not captured.' } : {}),
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
  const strange = type.kind === 'other' && row.data_type !== 'time'
  return {
    name: row.field,
    type,
    nativeType: row.native,
    nullable: row.nullable === '1',
    ...(generated ? { computed: true } : {}),
    ...(generated ? { notCaptured: 'it is computed by the source' } : {}),
    ...(strange ? { notCaptured: `the log tells ${row.data_type} in a form of its own` } : {}),
  }
}

function chooseKey(rows: { constraint: string; field: string; nullable: string }[]): string[] {
  const indexes = new Map<string, { field: string; nullable: string }[]>()
  for (const row of rows) indexes.set(row.constraint, [...(indexes.get(row.constraint) ?? []), row])
  const usable = [...indexes.values()].find(index => index.every(({ nullable }) => nullable === '0'))
  return usable?.map(({ field }) => field) ?? []
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
    const [row] = await session.rows<{ n: string }>(`SELECT count(*) AS n FROM ${tableName(dataset)}`)
    dataset.rows = Number(row!.n)
    dataset.rowsExact = true
  }
}
