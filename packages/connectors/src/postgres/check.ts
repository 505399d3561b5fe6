import type { Pool } from 'pg'
import type { CheckItem } from '@tide/core/api/browse'
import { CAPTURE_SCHEMA } from './catalogue.ts'
import type { PostgresConfig } from './config.ts'
import { serverAddress } from '../server-settings.ts'
import { postgresFailure } from './errors.ts'
import { checkCursor } from './cursor/check.ts'
import { checkLog } from './log/check.ts'
import { openPool } from './pool.ts'
import { checkReading } from './question/check.ts'
import { ident } from './text.ts'

const RIGHTS = `
SELECT current_setting('server_version') AS version, current_setting('server_version_num')::int / 10000 AS major,
       CASE WHEN to_regnamespace('${CAPTURE_SCHEMA}') IS NULL THEN has_database_privilege(current_database(), 'CREATE')
            ELSE has_schema_privilege('${CAPTURE_SCHEMA}', 'CREATE') END AS may_create,
       (SELECT count(*) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
         WHERE c.relkind = 'r' AND n.nspname NOT IN ('pg_catalog', 'information_schema', '${CAPTURE_SCHEMA}')
           AND has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT')) AS readable,
       (SELECT count(*) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
         WHERE c.relkind = 'r' AND n.nspname NOT IN ('pg_catalog', 'information_schema', '${CAPTURE_SCHEMA}')
           AND has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'TRIGGER')) AS capturable`

/** From the outside in: reach it, be let in, version, rights to read and to capture. Stops where going on is useless. */
export async function* checkPostgres(
  config: PostgresConfig,
  reader: string | undefined,
): AsyncGenerator<CheckItem> {
  const pool = openPool(config)
  const where = serverAddress(config)
  try {
    yield* checks(pool, config, where, reader)
  } finally {
    await pool.end()
  }
}

async function* checks(
  pool: Pool,
  config: PostgresConfig,
  where: string,
  reader: string | undefined,
): AsyncGenerator<CheckItem> {
  let rights
  try {
    rights = (await pool.query(RIGHTS)).rows[0]
  } catch (error) {
    const failure = postgresFailure(error, where)
    yield { what: 'Reach and sign in', result: 'failed', found: failure.message, remedy: failure.remedy }
    return
  }
  yield { what: 'Reach and sign in', result: 'ok', found: `${where} as ${config.user}` }
  yield { ...(await checkReading(config)), for: 'asking' }
  for await (const item of followingChecks(pool, config, rights, reader)) yield { ...item, for: 'following' }
}

async function* followingChecks(
  pool: Pool,
  config: PostgresConfig,
  rights: Record<string, unknown>,
  reader: string | undefined,
): AsyncGenerator<CheckItem> {
  const oldest = config.method === 'triggers' ? 13 : 12
  yield Number(rights.major) >= oldest
    ? { what: 'Version', result: 'ok', found: `PostgreSQL ${rights.version}` }
    : {
        what: 'Version',
        result: 'failed',
        found: `PostgreSQL ${rights.version}`,
        remedy: `Capturing changes this way needs version ${oldest} or later. Upgrade the server.`,
      }
  yield Number(rights.readable) > 0
    ? { what: 'Read tables', result: 'ok', found: `${rights.readable} tables can be read` }
    : {
        what: 'Read tables',
        result: 'failed',
        found: 'No table can be read.',
        remedy: 'Let an owner of the tables grant it, for each schema:',
        paste: `GRANT USAGE ON SCHEMA my_schema TO ${ident(config.user)};\nGRANT SELECT ON ALL TABLES IN SCHEMA my_schema TO ${ident(config.user)};`,
      }
  if (config.method === 'log') return yield* checkLog(config, pool, reader)
  if (config.method === 'cursor') return yield* checkCursor(config, pool)
  yield rights.may_create === 't'
    ? { what: 'Keep a change table', result: 'ok', found: `may hold the schema ${CAPTURE_SCHEMA}` }
    : {
        what: 'Keep a change table',
        result: 'failed',
        found: `The user may not create the schema ${CAPTURE_SCHEMA} here; without it tables can be read but not followed.`,
        remedy: 'Let the owner of the database grant it:',
        paste: `GRANT CREATE ON DATABASE ${ident(config.database)} TO ${ident(config.user)};`,
      }
  yield rights.capturable === rights.readable
    ? { what: 'Put triggers on tables', result: 'ok', found: `on all ${rights.capturable}` }
    : {
        what: 'Put triggers on tables',
        result: 'warning',
        found: `on ${rights.capturable} of the ${rights.readable} tables that can be read`,
        remedy: 'To follow the others, let their owner grant it:',
        paste: `GRANT TRIGGER ON ALL TABLES IN SCHEMA my_schema TO ${ident(config.user)};`,
      }
}
