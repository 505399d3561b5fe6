/** What we keep at a source whose log is followed: one publication and one replication slot for each reader. */
import { Failure } from '@tide/core/failure'
import type { Position } from '@tide/core/position/position'
import { datasetId, printName, type DatasetName } from '@tide/core/records/dataset'
import { setTimeout as sleep } from 'node:timers/promises'
import type { Pool } from 'pg'
import { inTransaction } from '../transaction.ts'
import { tableName } from '../catalogue.ts'
import type { Patience } from '../../contract/source.ts'
import type { PostgresConfig } from '../config.ts'
import { ident, literal } from '../text.ts'
import { identifySystem, withReplication } from './replication.ts'
import { withPatience } from './wait.ts'

export const LOG_KIND = 'postgres log'

/** Names of slots hold lower-case letters, digits and underscores only. */
export function slotName(reader: string): string {
  return `constant_tide_${reader.toLowerCase().replace(/[^a-z0-9_]/g, '_')}`.slice(0, 60)
}

export async function published(pool: Pool, reader: string): Promise<DatasetName[] | undefined> {
  const name = slotName(reader)
  const there = await pool.query('SELECT 1 FROM pg_catalog.pg_publication WHERE pubname = $1', [name])
  if (there.rows.length === 0) return undefined
  const tables = await pool.query(
    `SELECT n.nspname, c.relname FROM pg_catalog.pg_publication_rel r
       JOIN pg_catalog.pg_publication p ON p.oid = r.prpubid
       JOIN pg_catalog.pg_class c ON c.oid = r.prrelid
       JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
      WHERE p.pubname = $1`,
    [name],
  )
  return tables.rows.map(row => ({ namespace: row.nspname, name: row.relname }))
}

/** The statements that make the publication tell of these tables. */
export async function publicationStatements(
  pool: Pool,
  reader: string,
  tables: readonly DatasetName[],
): Promise<string[]> {
  const name = ident(slotName(reader))
  const present = await published(pool, reader)
  if (!present) {
    const list = tables.map(tableName).join(', ')
    return [`CREATE PUBLICATION ${name} FOR TABLE ${list} WITH (${await options(pool)})`]
  }
  const added = await unpublished(pool, reader, tables)
  return added.length === 0 ? [] : [`ALTER PUBLICATION ${name} ADD TABLE ${added.map(tableName).join(', ')}`]
}

/** Of these tables, those that the publication does not tell of; all when there is none. */
export async function unpublished(
  pool: Pool,
  reader: string,
  tables: readonly DatasetName[],
): Promise<DatasetName[]> {
  const known = new Set((await published(pool, reader))?.map(datasetId))
  return tables.filter(table => !known.has(datasetId(table)))
}

/** From version 13 on, changes to partitions are told as changes to their table. */
async function options(pool: Pool): Promise<string> {
  const version = await pool.query(`SELECT current_setting('server_version_num')::int >= 130000 AS roots`)
  const root = version.rows[0].roots === 't' ? ', publish_via_partition_root = true' : ''
  return `publish = 'insert, update, delete, truncate'${root}`
}

/** Returns the tables that were added. */
export async function publish(
  pool: Pool,
  reader: string,
  tables: readonly DatasetName[],
): Promise<DatasetName[]> {
  await refuseTablesWithoutIdentity(pool, tables)
  const added = await unpublished(pool, reader, tables)
  const statements = await publicationStatements(pool, reader, tables)
  if (statements.length === 0) return added
  await inTransaction(pool, async client => {
    await client.query(`SET LOCAL lock_timeout = '3s'`)
    for (const statement of statements) await client.query(statement)
  })
  return added
}

/** Publishing such a table would make the source's own updates and deletes fail. */
async function refuseTablesWithoutIdentity(pool: Pool, tables: readonly DatasetName[]): Promise<void> {
  const found = await pool.query(
    `SELECT n.nspname, c.relname FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
      WHERE (n.nspname, c.relname) IN (SELECT * FROM json_to_recordset($1::json) AS t(namespace text, name text))
        AND (c.relreplident = 'n' OR c.relreplident = 'd' AND NOT EXISTS
              (SELECT FROM pg_catalog.pg_index i WHERE i.indrelid = c.oid AND i.indisprimary AND i.indimmediate)
             OR c.relreplident = 'i' AND NOT EXISTS
              (SELECT FROM pg_catalog.pg_index i WHERE i.indrelid = c.oid AND i.indisreplident))`,
    [JSON.stringify(tables)],
  )
  const row = found.rows[0]
  if (!row) return
  const name: DatasetName = { namespace: row.nspname, name: row.relname }
  throw new Failure(
    'structural',
    `${printName(name)} has no replica identity; published like that, its own updates would fail.`,
    `Give it one: ALTER TABLE ${tableName(name)} REPLICA IDENTITY DEFAULT (with a primary key), USING INDEX …, or FULL.`,
  )
}

/** Makes publication and slot anew; the log is kept from the returned position on. */
export async function openSlot(
  config: PostgresConfig,
  pool: Pool,
  reader: string,
  tables: readonly DatasetName[],
  patience?: Patience,
): Promise<Position> {
  await dropSlot(pool, reader)
  await publish(pool, reader, tables)
  const { incarnation } = await withReplication(config, identifySystem)
  const client = await pool.connect()
  let whole = false
  try {
    const { pid } = (await client.query('SELECT pg_backend_pid() AS pid')).rows[0]
    const made = await withPatience(pool, Number(pid), patience, client.query(slotStatement(reader)))
    whole = true
    return { kind: LOG_KIND, incarnation, at: made.rows[0].lsn }
  } finally {
    client.release(!whole)
  }
}

export function slotStatement(reader: string): string {
  return `SELECT lsn::text FROM pg_create_logical_replication_slot(${literal(slotName(reader))}, 'pgoutput')`
}

export async function hasSlot(pool: Pool, reader: string): Promise<boolean> {
  const found = await pool.query('SELECT 1 FROM pg_catalog.pg_replication_slots WHERE slot_name = $1', [
    slotName(reader),
  ])
  return found.rows.length > 0
}

/** Takes slot and publication away. A reader that has just left may hold the slot for a moment. */
export async function closeSlot(pool: Pool, reader: string): Promise<void> {
  await dropSlot(pool, reader)
  try {
    await pool.query(`DROP PUBLICATION IF EXISTS ${ident(slotName(reader))}`)
  } catch (error) {
    // One that somebody else has made for us stays; without a slot it costs nothing.
    if ((error as { code?: string }).code !== '42501') throw error
  }
}

async function dropSlot(pool: Pool, reader: string): Promise<void> {
  const name = slotName(reader)
  for (let tries = 0; ; tries++) {
    try {
      await pool.query(
        `SELECT pg_drop_replication_slot(slot_name) FROM pg_catalog.pg_replication_slots WHERE slot_name = ${literal(name)}`,
      )
      return
    } catch (error) {
      if ((error as { code?: string }).code !== '55006' || tries >= 20) throw error
      await sleep(250)
    }
  }
}

/** Where the server's log ends. */
export const LOG_END = `(CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_insert_lsn() END)`

export async function currentPosition(config: PostgresConfig, pool: Pool): Promise<Position> {
  const { incarnation } = await withReplication(config, identifySystem)
  const head = await pool.query(`SELECT ${LOG_END}::text AS at`)
  return { kind: LOG_KIND, incarnation, at: head.rows[0].at }
}
