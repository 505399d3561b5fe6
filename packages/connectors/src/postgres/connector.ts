import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import type { Pool } from 'pg'
import type { Config, Connector, Session } from '../contract/session.ts'
import type { KeyedTable } from '../contract/records.ts'
import type { LogSide } from '../contract/source.ts'
import { readCatalogue, tableName } from './catalogue.ts'
import { checkPostgres } from './check.ts'
import { cursorSide } from './cursor/side.ts'
import { postgresConfig, postgresConfigSchema, type PostgresConfig } from './config.ts'
import { PLACE_SETTINGS, serverAddress } from '../server-settings.ts'
import { PIN } from './copy.ts'
import { postgresFailure } from './errors.ts'
import { logSide } from './log/side.ts'
import { CANONICAL_OPTIONS, openPool } from './pool.ts'
import { ask, askForRows, look, scan } from './question/ask.ts'
import { PostgresTarget } from './target/target.ts'
import { ident, literal } from './text.ts'
import { inTransaction } from './transaction.ts'
import { triggerSide } from './triggers/side.ts'

/** Of a value that is read for itself. */
const LARGEST_VALUE_BYTES = 128 * 2 ** 20

async function open(config: Config): Promise<Session> {
  const settings = postgresConfig(config)
  const pool = openPool(settings)
  const writers = openPool(settings, { options: CANONICAL_OPTIONS })
  const where = serverAddress(settings)
  /** Turns what goes wrong into a Failure that names the server. */
  const guard = <T>(work: Promise<T>) => work.catch(error => Promise.reject(postgresFailure(error, where)))
  try {
    await guard(pool.query('SELECT 1'))
  } catch (error) {
    await pool.end()
    throw error
  }
  return {
    catalogue: () => guard(readCatalogue(pool, settings.method, settings.cursorColumn)),
    preview: (table, limits) => look(settings, `SELECT * FROM ${tableName(table)}`, limits),
    count: async (table, limits) => {
      const { rows } = await look(settings, `SELECT count(*) FROM ${tableName(table)}`, limits)
      return Number(rows[0]![0])
    },
    row: (table, key) => guard(readRow(pool, table, key)),
    async *scan(table, limits) {
      yield* scan(settings, table, await guard(isPartitioned(pool, table.dataset)), limits)
    },
    log: sideOf(settings, pool, guard),
    query: (sql, limits) => ask(settings, sql, limits),
    stream: (sql, limits) => askForRows(settings, sql, limits),
    target: new PostgresTarget(writers, where),
    close: async () => {
      await Promise.all([pool.end(), writers.end()])
    },
  }
}

function sideOf(settings: PostgresConfig, pool: Pool, guard: <T>(work: Promise<T>) => Promise<T>): LogSide {
  switch (settings.method) {
    case 'log':
      return logSide(settings, pool, guard)
    case 'cursor':
      return cursorSide(pool, guard, settings)
    case 'triggers':
      return triggerSide(settings, pool, guard)
  }
}

async function isPartitioned(pool: Pool, { namespace, name }: DatasetName): Promise<boolean> {
  const found = await pool.query(
    `SELECT 1 FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
      WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind = 'p'`,
    [namespace, name],
  )
  return found.rows.length > 0
}

async function readRow(
  pool: Pool,
  { dataset, columns, key }: KeyedTable,
  value: Key | null,
): Promise<Row | null> {
  const typeOf = (part: string) => columns.find(column => column.name === part)!.nativeType
  const where = key.map((part, i) => `${ident(part)} = $${i + 1}::text::${typeOf(part)}`).join(' AND ')
  const last = `ORDER BY ${key.map(part => `t.${ident(part)} DESC`).join(', ')}`
  // A text longer than the driver can make would end the process.
  const large = columns
    .map(
      column =>
        `WHEN octet_length(t.${ident(column.name)}::text) > ${LARGEST_VALUE_BYTES} THEN ${literal(column.name)}`,
    )
    .join(' ')
  const values = columns.map(
    column =>
      `CASE WHEN octet_length(t.${ident(column.name)}::text) <= ${LARGEST_VALUE_BYTES} THEN t.${ident(column.name)} END`,
  )
  return inTransaction(pool, async client => {
    await client.query(PIN)
    const result = await client.query({
      text: `SELECT CASE ${large} END, ${values.join(', ')} FROM ${tableName(dataset)} t ${value ? `WHERE ${where}` : last} LIMIT 1`,
      values: value ? [...value] : [],
      rowMode: 'array',
    })
    if (!result.rows[0]) return null
    const [tooLarge, ...row] = result.rows[0] as (string | null)[]
    if (typeof tooLarge !== 'string') return row
    const told = key.map((part, i) => `${part} ${value?.[i]?.slice(0, 60) ?? 'last in order'}`).join(', ')
    throw new Failure(
      'value',
      `${printName(dataset)}.${tooLarge}: the value is larger than can be carried (${LARGEST_VALUE_BYTES / 2 ** 20} MB), in the row with ${told}.`,
      'Make the value smaller at the source.',
    )
  })
}

export const postgres: Connector = {
  kind: 'postgres',
  title: 'PostgreSQL',
  summary: 'An operational database, version 12 or later, followed by its log or by triggers, or written to.',
  band: 'databases',
  roles: ['source', 'target'],
  configSchema: postgresConfigSchema,
  questionsAtOnce: 2,
  placeSettings: PLACE_SETTINGS,
  fixedWhileFollowed: ['database', 'method', 'cursorColumn'],
  identity: config => serverAddress(postgresConfig(config)),
  address: config => {
    const settings = postgresConfig(config)
    return `postgresql://${settings.user}@${serverAddress(settings)}`
  },
  check: (config, reader) => checkPostgres(postgresConfig(config), reader),
  open,
}
