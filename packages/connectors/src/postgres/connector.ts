import type { DatasetName } from '@tide/core/records/dataset'
import type { Pool } from 'pg'
import type { Config, Connector, Session } from '../contract/session.ts'
import type { LogSide } from '../contract/source.ts'
import { readCatalogue, tableName } from './catalogue.ts'
import { checkPostgres } from './check.ts'
import { cursorSide } from './cursor/side.ts'
import { postgresConfig, postgresConfigSchema, type PostgresConfig } from './config.ts'
import { PLACE_SETTINGS, serverAddress } from '../server-settings.ts'
import { postgresFailure } from './errors.ts'
import { logSide } from './log/side.ts'
import { CANONICAL_OPTIONS, openPool } from './pool.ts'
import { ask, askForRows, look, ordered, scan } from './question/ask.ts'
import { postgresRemoval } from './removal.ts'
import { readRow, readRows } from './rows.ts'
import { postgresRows } from './row-side.ts'
import { PostgresTarget } from './target/target.ts'
import { triggerSide } from './triggers/side.ts'

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
    rows: (table, keys) => guard(readRows(pool, table, keys)),
    async *ordered(table, limits) {
      yield* ordered(settings, table, await guard(isPartitioned(pool, table.dataset)), limits)
    },
    clock: () => guard(clockOf(pool)),
    async *scan(table, limits) {
      yield* scan(settings, table, await guard(isPartitioned(pool, table.dataset)), limits)
    },
    log: sideOf(settings, pool, guard),
    removal: postgresRemoval(pool, table => isPartitioned(pool, table), guard),
    query: (sql, limits) => ask(settings, sql, limits),
    stream: (sql, limits) => askForRows(settings, sql, limits),
    singleRows: postgresRows(writers, guard),
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

async function clockOf(pool: Pool): Promise<string> {
  const { rows } = await pool.query<{ now: string }>(
    `SELECT to_char(clock_timestamp() AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') AS now`,
  )
  return rows[0]!.now
}

async function isPartitioned(pool: Pool, { namespace, name }: DatasetName): Promise<boolean> {
  const found = await pool.query(
    `SELECT 1 FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
      WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind = 'p'`,
    [namespace, name],
  )
  return found.rows.length > 0
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
