/** Whether the account that questions go by could do more than read, and how to make one that cannot. */
import type { CheckItem } from '@tide/core/api/browse'
import { messageOf } from '@tide/core/failure'
import { readingAccount } from '../../server-settings.ts'
import type { PostgresConfig } from '../config.ts'
import { openPool } from '../pool.ts'
import { ident } from '../text.ts'

const COULD = `
SELECT concat_ws(', ',
         CASE WHEN r.rolsuper THEN 'superuser' END,
         CASE WHEN r.rolreplication AND NOT r.rolsuper THEN 'may replicate' END,
         CASE WHEN r.rolcreaterole AND NOT r.rolsuper THEN 'may create roles' END,
         CASE WHEN has_database_privilege(current_database(), 'CREATE') AND NOT r.rolsuper THEN 'may create schemas' END,
         (SELECT 'may create in ' || string_agg(nspname, ', ') FROM pg_catalog.pg_namespace
           WHERE nspname NOT LIKE 'pg\\_%' AND has_schema_privilege(oid, 'CREATE') AND NOT r.rolsuper),
         (SELECT 'may write ' || count(*) || ' tables' FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
           WHERE c.relkind IN ('r', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND NOT r.rolsuper
             AND has_table_privilege(c.oid, 'INSERT, UPDATE, DELETE, TRUNCATE') HAVING count(*) > 0)) AS could
  FROM pg_catalog.pg_roles r WHERE r.rolname = current_user`

export async function checkReading(config: PostgresConfig): Promise<CheckItem> {
  const what = 'Reading account'
  const account = readingAccount(config)
  const pool = openPool(account, { max: 1 })
  try {
    const { could } = (await pool.query(COULD)).rows[0] as { could: string }
    if (could === '') return { what, result: 'ok', found: `queries go by ${account.user}, who can only read` }
    return {
      what,
      result: 'warning',
      found: `Queries go by ${account.user}, who could do more than read: ${could}. Only what is known to be a question is run, in read-only transactions.`,
      remedy:
        'Let an administrator make an account that can only read, and enter it under “Reading account”.',
      paste: script(config),
    }
  } catch (error) {
    const found = `${account.user} cannot sign in: ${messageOf(error)}`
    return { what, result: 'failed', found, remedy: 'Correct the reading account, or leave it empty.' }
  } finally {
    await pool.end()
  }
}

function script({ database }: PostgresConfig): string {
  return [
    `CREATE ROLE constant_tide_reading LOGIN PASSWORD 'choose one';`,
    `ALTER ROLE constant_tide_reading CONNECTION LIMIT 5;`,
    `ALTER ROLE constant_tide_reading SET default_transaction_read_only = on;`,
    `ALTER ROLE constant_tide_reading SET statement_timeout = '30s';`,
    `ALTER ROLE constant_tide_reading SET temp_file_limit = '1GB';`,
    `GRANT CONNECT ON DATABASE ${ident(database)} TO constant_tide_reading;`,
    `-- before version 15: REVOKE CREATE ON SCHEMA public FROM PUBLIC;`,
    `-- for each schema to be read:`,
    `GRANT USAGE ON SCHEMA public TO constant_tide_reading;`,
    `GRANT SELECT ON ALL TABLES IN SCHEMA public TO constant_tide_reading;`,
  ].join('\n')
}
