/** What following the log needs of the server, looked at on the live system; each thing missing with what to type. */
import type { CheckItem } from '@tide/core/api/browse'
import { printName } from '@tide/core/records/dataset'
import type { Pool } from 'pg'
import { tableName } from '../catalogue.ts'
import type { PostgresConfig } from '../config.ts'
import { ident, literal } from '../text.ts'
import { postgresFailure } from '../errors.ts'
import { identifySystem, withReplication } from './replication.ts'
import { LOG_END, slotName } from './slot.ts'

/** One slot for the journal, and one for a moment at the start of a copy. */
const SLOTS_NEEDED = 2
const HELD_WARNING_BYTES = 2 ** 30

const SERVER = `
SELECT current_setting('wal_level') AS level,
       current_setting('max_replication_slots')::int AS slots, (SELECT count(*) FROM pg_catalog.pg_replication_slots)::int AS slots_used,
       current_setting('max_wal_senders')::int AS senders, (SELECT count(*) FROM pg_catalog.pg_stat_replication)::int AS senders_used,
       (SELECT rolreplication OR rolsuper FROM pg_catalog.pg_roles WHERE rolname = current_user) AS may_replicate,
       has_database_privilege(current_database(), 'CREATE') AS may_publish,
       current_setting('max_slot_wal_keep_size', true) AS keep`

const TABLES = `
SELECT count(*)::int AS readable,
       (count(*) FILTER (WHERE pg_catalog.pg_has_role(c.relowner, 'USAGE')))::int AS owned,
       (count(*) FILTER (WHERE p.published))::int AS published,
       json_agg(json_build_object('namespace', n.nspname, 'name', c.relname, 'index', i.name, 'keyed', i.primary_there)
                ORDER BY n.nspname, c.relname) FILTER (WHERE c.relreplident = 'n' OR c.relreplident = 'd' AND NOT i.primary_there)::text AS silent
  FROM pg_catalog.pg_class c
  JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
  CROSS JOIN LATERAL (
    SELECT coalesce(bool_or(x.indisprimary AND x.indimmediate), false) AS primary_there,
           min(k.relname) FILTER (WHERE x.indisunique AND NOT x.indisprimary AND x.indimmediate AND x.indpred IS NULL AND x.indexprs IS NULL
             AND NOT EXISTS (SELECT FROM unnest(x.indkey::int2[]) u JOIN pg_catalog.pg_attribute a
                              ON a.attrelid = c.oid AND a.attnum = u AND NOT a.attnotnull)) AS name
      FROM pg_catalog.pg_index x JOIN pg_catalog.pg_class k ON k.oid = x.indexrelid WHERE x.indrelid = c.oid) i
  CROSS JOIN LATERAL (
    SELECT EXISTS (SELECT FROM pg_catalog.pg_publication_rel r JOIN pg_catalog.pg_publication b ON b.oid = r.prpubid
                    WHERE r.prrelid = c.oid AND b.pubname = $1) AS published) p
 WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND c.relpersistence = 'p'
   AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_%'
   AND has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT')`

const HELD = `
SELECT slot_name, active::text, pg_wal_lsn_diff(${LOG_END}, restart_lsn)::bigint::text AS held
  FROM pg_catalog.pg_replication_slots WHERE restart_lsn IS NOT NULL ORDER BY 3 DESC`

/** `reader`: the name under which the connection's slot and publication are kept, where it has one already. */
export async function* checkLog(
  config: PostgresConfig,
  pool: Pool,
  reader: string | undefined,
): AsyncGenerator<CheckItem> {
  const server = (await pool.query(SERVER)).rows[0]
  const user = ident(config.user)
  yield server.level === 'logical'
    ? { what: 'Log level', result: 'ok', found: 'wal_level is logical' }
    : {
        what: 'Log level',
        result: 'failed',
        found: `wal_level is ${server.level}, so the log does not tell rows.`,
        remedy: 'Set it, then restart the server; its log grows somewhat. Or capture by triggers.',
        paste: `ALTER SYSTEM SET wal_level = 'logical';\n-- then restart PostgreSQL`,
      }
  yield server.may_replicate === 't'
    ? { what: 'Right to replicate', result: 'ok', found: `${config.user} may read the log` }
    : {
        what: 'Right to replicate',
        result: 'failed',
        found: `${config.user} may not read the log.`,
        remedy:
          'Let a superuser grant it. The role can then read all changes of this server, of every table.',
        paste: `ALTER ROLE ${user} REPLICATION;`,
      }
  if (server.may_replicate === 't') yield await reachable(config)
  yield free('Replication slots', 'max_replication_slots', server.slots, server.slots_used)
  yield free('Log senders', 'max_wal_senders', server.senders, server.senders_used)
  const tables = (await pool.query(TABLES, [slotName(reader ?? '')])).rows[0]
  yield publishing(config, server.may_publish === 't', tables, reader)
  yield identities(JSON.parse(tables.silent ?? '[]'))
  yield held((await pool.query(HELD)).rows, server.keep)
  yield leastRights(config, reader)
}

async function reachable(config: PostgresConfig): Promise<CheckItem> {
  const what = 'Reach the log'
  try {
    const { incarnation } = await withReplication(config, identifySystem)
    const [system, timeline] = incarnation.split('/')
    return { what, result: 'ok', found: `system ${system}, timeline ${timeline}` }
  } catch (error) {
    const { message, remedy } = postgresFailure(error, `${config.host}:${config.port}`)
    return {
      what,
      result: 'failed',
      found: message,
      remedy,
      paste: `# pg_hba.conf, with the address we come from\nhost  ${config.database}  ${config.user}  127.0.0.1/32  scram-sha-256`,
    }
  }
}

function free(what: string, setting: string, all: string, used: string): CheckItem {
  const left = Number(all) - Number(used)
  if (left >= SLOTS_NEEDED) return { what, result: 'ok', found: `${left} of ${all} free` }
  return {
    what,
    result: left > 0 ? 'warning' : 'failed',
    found: `${left} of ${all} free; the journal takes one, and each start of a copy another for a moment.`,
    remedy: `Raise ${setting} and restart the server, or drop what nobody uses.`,
    paste: `ALTER SYSTEM SET ${setting} = ${Number(all) + 5};\n-- then restart PostgreSQL`,
  }
}

interface TableCounts {
  readable: string
  owned: string
  published: string
}

function publishing(
  config: PostgresConfig,
  mayPublish: boolean,
  { readable, owned, published }: TableCounts,
  reader: string | undefined,
): CheckItem {
  const what = 'Publish tables'
  if (mayPublish && owned === readable) return { what, result: 'ok', found: `all ${owned}, as their owner` }
  if (Number(published) > 0 && Number(owned) === 0)
    return { what, result: 'ok', found: `${published} are in the publication that their owner has made` }
  const name = reader ? ident(slotName(reader)) : '"constant_tide_…"'
  return {
    what,
    result: 'warning',
    found: `${config.user} owns ${owned} of the ${readable} tables it can read${mayPublish ? '' : ', and may not create publications'}; only an owner can publish a table.`,
    remedy: `Let the owner make the publication once, with the tables to be followed${reader ? '' : ' (save the connection and test it again for its exact name)'}; or grant the owner’s role.`,
    paste: `CREATE PUBLICATION ${name} FOR TABLE my_schema.my_table\n  WITH (publish = 'insert, update, delete, truncate', publish_via_partition_root = true);`,
  }
}

function identities(
  silent: { namespace: string; name: string; index: string | null; keyed: boolean }[],
): CheckItem {
  const what = 'Replica identity'
  if (silent.length === 0)
    return { what, result: 'ok', found: 'the log tells of every table which row was changed' }
  const shown = silent.slice(0, 20)
  return {
    what,
    result: 'warning',
    found: `${silent.length} tables cannot be followed: the log does not tell which row was changed. ${shown.slice(0, 5).map(printName).join(', ')}${silent.length > 5 ? ' …' : ''}`,
    remedy: 'Give those that are to be followed a key, or make a unique index their identity.',
    paste: shown
      .map(table => {
        const name = tableName(table)
        if (table.index) return `ALTER TABLE ${name} REPLICA IDENTITY USING INDEX ${ident(table.index)};`
        if (table.keyed) return `ALTER TABLE ${name} REPLICA IDENTITY DEFAULT;`
        return `-- ALTER TABLE ${name} ADD PRIMARY KEY (…);`
      })
      .join('\n'),
  }
}

function held(slots: { slot_name: string; active: string; held: string }[], keep: string | null): CheckItem {
  const what = 'Log held back'
  const size = (bytes: string) =>
    Number(bytes) < 2 ** 30
      ? `${Math.round(Number(bytes) / 2 ** 20)} MiB`
      : `${(Number(bytes) / 2 ** 30).toFixed(1)} GiB`
  const idle = slots.filter(slot => slot.active !== 'true' && Number(slot.held) > HELD_WARNING_BYTES)
  if (idle.length > 0) {
    return {
      what,
      result: 'warning',
      found: `Nobody reads ${idle.map(slot => `${slot.slot_name} (${size(slot.held)})`).join(', ')}; the disk fills until somebody does.`,
      remedy: 'Start what reads them, or drop them; what follows by a dropped slot must copy anew.',
      paste: idle.map(slot => `SELECT pg_drop_replication_slot(${literal(slot.slot_name)});`).join('\n'),
    }
  }
  const most = slots[0] ? `at most ${size(slots[0].held)}, for ${slots[0].slot_name}` : 'nothing'
  return {
    what,
    result: 'ok',
    found: `${most}; ${keep === null || keep === '-1' ? 'nothing limits what a slot may hold back' : `no slot holds back more than ${keep}`}`,
  }
}

function leastRights(config: PostgresConfig, reader: string | undefined): CheckItem {
  const name = reader ? ident(slotName(reader)) : '"constant_tide_…"'
  return {
    what: 'Least rights',
    result: 'ok',
    found: 'A role of its own that can do no more than is needed here:',
    paste: [
      `CREATE ROLE constant_tide LOGIN REPLICATION PASSWORD 'choose one';`,
      `GRANT CONNECT ON DATABASE ${ident(config.database)} TO constant_tide;`,
      `-- for each schema to be read:`,
      `GRANT USAGE ON SCHEMA my_schema TO constant_tide;`,
      `GRANT SELECT ON ALL TABLES IN SCHEMA my_schema TO constant_tide;`,
      `-- the owner of the tables publishes them, so that the role need not own them:`,
      `CREATE PUBLICATION ${name} FOR TABLE my_schema.my_table`,
      `  WITH (publish = 'insert, update, delete, truncate', publish_via_partition_root = true);`,
    ].join('\n'),
  }
}
