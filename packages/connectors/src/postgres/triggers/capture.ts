/**
 * The trigger-fed change table: what is installed at a source whose log is out of reach.
 *
 * Every changed row is recorded by an AFTER ROW trigger with the transaction that changed it. A sequence number is
 * drawn while the row is locked, so of two transactions that touch one row the later has the higher numbers.
 * Sequence order is not commit order, though; readers therefore go from snapshot to snapshot (see `follow.ts`).
 */
import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { Pool, PoolClient } from 'pg'
import { compareSnapshots } from '@tide/core/position/snapshot'
import { CAPTURE_SCHEMA, tableName } from '../catalogue.ts'
import { ident, literal, PINNED_SETTINGS } from '../text.ts'
import { inTransaction } from '../transaction.ts'

/** Begins with a sign that sorts before letters: triggers fire in the order of their names, and ours must be first. */
const ROW_TRIGGER = '!constant_tide_row'
const TRUNCATE_TRIGGER = '!constant_tide_truncate'

const S = CAPTURE_SCHEMA

const pinned = Object.entries(PINNED_SETTINGS)
  .map(([name, value]) => `SET ${name} = ${name === 'search_path' ? value : literal(value)}`)
  .join(' ')

const INSTALL = [
  `CREATE SCHEMA IF NOT EXISTS ${S}`,
  `CREATE SEQUENCE IF NOT EXISTS ${S}.change_seq CACHE 1`,
  `CREATE TABLE IF NOT EXISTS ${S}.change (seq bigint NOT NULL DEFAULT nextval('${S}.change_seq'), xid xid8 NOT NULL DEFAULT pg_current_xact_id(), at timestamptz NOT NULL DEFAULT clock_timestamp(), relation oid NOT NULL, op "char" NOT NULL, before text, after text)`,
  `CREATE INDEX IF NOT EXISTS change_order ON ${S}.change (xid, seq)`,
  `CREATE TABLE IF NOT EXISTS ${S}.follower (id text PRIMARY KEY, seen pg_snapshot NOT NULL, relations oid[] NOT NULL, shapes text[] NOT NULL)`,
  `CREATE TABLE IF NOT EXISTS ${S}.installation (id uuid NOT NULL DEFAULT gen_random_uuid(), at timestamptz NOT NULL DEFAULT now())`,
  `INSERT INTO ${S}.installation SELECT WHERE NOT EXISTS (SELECT FROM ${S}.installation)`,
  `CREATE OR REPLACE FUNCTION ${S}.capture() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER ${pinned} AS $$
BEGIN
  IF TG_OP = 'INSERT' THEN
    INSERT INTO ${S}.change (relation, op, after) VALUES (TG_RELID, 'i', NEW::text);
  ELSIF TG_OP = 'UPDATE' THEN
    INSERT INTO ${S}.change (relation, op, before, after) VALUES (TG_RELID, 'u', OLD::text, NEW::text);
  ELSIF TG_OP = 'DELETE' THEN
    INSERT INTO ${S}.change (relation, op, before) VALUES (TG_RELID, 'd', OLD::text);
  ELSE
    INSERT INTO ${S}.change (relation, op) VALUES (TG_RELID, 't');
  END IF;
  RETURN NULL;
END $$`,
]

function triggerStatements(table: DatasetName): string[] {
  const on = tableName(table)
  return [
    `CREATE TRIGGER ${ident(ROW_TRIGGER)} AFTER INSERT OR UPDATE OR DELETE ON ${on} FOR EACH ROW EXECUTE FUNCTION ${S}.capture()`,
    `CREATE TRIGGER ${ident(TRUNCATE_TRIGGER)} AFTER TRUNCATE ON ${on} FOR EACH STATEMENT EXECUTE FUNCTION ${S}.capture()`,
  ]
}

const WHICH_TRIGGERS = `
SELECT c.oid::text, n.nspname, c.relname, bool_or(t.tgname = '${ROW_TRIGGER}') AS installed
  FROM pg_catalog.pg_class c
  JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
  LEFT JOIN pg_catalog.pg_trigger t ON t.tgrelid = c.oid
 WHERE (n.nspname, c.relname) IN (SELECT * FROM unnest($1::text[], $2::text[]))
 GROUP BY c.oid, n.nspname, c.relname`

/**
 * A digest of a table's columns, and whether our triggers stand on it: what must not change behind a follower's
 * back. The index of a dropped column stays in it, so that dropping one and adding another is noticed too.
 */
export const SHAPE = `
SELECT md5(string_agg(concat_ws(':', a.attnum, a.attname, a.atttypid, a.atttypmod, a.attisdropped), ',' ORDER BY a.attnum))
  FROM pg_catalog.pg_attribute a WHERE a.attrelid = r.oid AND a.attnum > 0`

/** A literal array, for the one statement that needs names in it. */
const textArray = (values: string[]) => `{${values.map(v => `"${v.replace(/(["\\])/g, '\\$1')}"`).join(',')}}`

interface Found {
  oid: string
  table: DatasetName
  installed: boolean
}

/** Those who install or remove go one after another: two of them would both make the same, or one remove what the other counts on. */
const ALONE = `SELECT pg_advisory_xact_lock(hashtext('${S}'))`

async function find(db: Pool | PoolClient, tables: readonly DatasetName[]): Promise<Found[]> {
  const result = await db.query(WHICH_TRIGGERS, [
    textArray(tables.map(table => table.namespace)),
    textArray(tables.map(table => table.name)),
  ])
  return tables.map(table => {
    const row = result.rows.find(row => row.nspname === table.namespace && row.relname === table.name)
    if (!row) {
      throw new Failure(
        'structural',
        `The table ${printName(table)} is not there any more.`,
        'Leave it out in the setup, or create it again at the source.',
      )
    }
    return { oid: row.oid, table, installed: row.installed === 't' }
  })
}

async function isInstalled(db: Pool | PoolClient): Promise<boolean> {
  const result = await db.query(`SELECT to_regclass('${S}.installation') IS NOT NULL AS there`)
  return result.rows[0].there === 't'
}

/** The statements that `install` would run now. */
export async function installStatements(pool: Pool, tables: readonly DatasetName[]): Promise<string[]> {
  const base = (await isInstalled(pool)) ? [] : INSTALL
  const found = await find(pool, tables)
  return [...base, ...found.filter(one => !one.installed).flatMap(one => triggerStatements(one.table))]
}

const ENTER = `
INSERT INTO ${S}.follower (id, seen, relations, shapes)
SELECT $1, $2::pg_snapshot, $3::oid[] || $4::oid[],
       array(SELECT (${SHAPE}) FROM unnest($3::oid[]) WITH ORDINALITY r(oid, ordinal) ORDER BY ordinal) || $5::text[]
    ON CONFLICT (id) DO UPDATE SET seen = excluded.seen, relations = excluded.relations, shapes = excluded.shapes`

const ENTERED = `
SELECT id, seen::text, array_to_json(relations::text[])::text AS relations, array_to_json(shapes)::text AS shapes
  FROM ${S}.follower WHERE id = ANY ($1::text[]) FOR UPDATE`

interface Entered {
  seen: string
  /** The shape that each table had when it was entered, by the table's oid. */
  shapes: Map<string, string | null>
}

async function entered(client: PoolClient, ids: readonly string[]): Promise<Entered[]> {
  const { rows } = await client.query(ENTERED, [ids])
  return rows.map(({ seen, relations, shapes }) => {
    const [oids, texts] = [JSON.parse(relations) as string[], JSON.parse(shapes) as (string | null)[]]
    return { seen, shapes: new Map(oids.map((oid, i) => [oid, texts[i]!])) }
  })
}

/** `oids`: tables whose shape is what it is now; `kept`: others, whose shape stays what it was. */
async function enter(
  client: PoolClient,
  reader: string,
  seen: string,
  oids: readonly string[],
  kept: ReadonlyMap<string, string | null>,
): Promise<void> {
  const others = [...kept].filter(([oid]) => !oids.includes(oid))
  await client.query(ENTER, [
    reader,
    seen,
    oids,
    others.map(([oid]) => oid),
    others.map(([, shape]) => shape),
  ])
}

const snapshotNow = async (db: Pool | PoolClient): Promise<string> =>
  (await db.query('SELECT pg_current_snapshot()::text AS seen')).rows[0].seen

/**
 * Makes what a snapshot has seen outlast a crash of the source. Numbers of transactions that had written nothing durable are
 * given out again after one, and a position that has seen them would pass over their second bearers. A commit that is
 * durable, of a transaction with a later number, keeps the source from going back before it.
 */
export async function keepNumbers(pool: Pool, reader: string): Promise<void> {
  await inTransaction(pool, async client => {
    await client.query('SET LOCAL synchronous_commit = on')
    await client.query(`UPDATE ${S}.follower SET id = id WHERE id = $1`, [reader])
  })
}

/**
 * Installs the capture and enters the reader, first of all, so that nobody takes away what it will need. Each table's
 * triggers are created in a transaction of their own, which waits for that table's writers, but no longer than the lock
 * timeout. Returns the snapshot from which on the tables are captured: taken after all of it has committed, so whatever it
 * does not see has fired the triggers. `afresh`: the reader begins there, with these tables alone.
 */
export async function install(
  pool: Pool,
  reader: string,
  tables: readonly DatasetName[],
  afresh: boolean,
): Promise<{ seen: string; added: DatasetName[] }> {
  const oids = (await find(pool, tables)).map(one => one.oid)
  const enterNow = async (client: PoolClient) => {
    const [before] = afresh ? [] : await entered(client, [reader])
    const seen = before?.seen ?? (await snapshotNow(client))
    await enter(client, reader, seen, oids, before?.shapes ?? new Map())
  }
  await inTransaction(pool, async client => {
    await client.query(ALONE)
    if (!(await isInstalled(client))) for (const statement of INSTALL) await client.query(statement)
    await enterNow(client)
  })
  const added: DatasetName[] = []
  for (const { table } of (await find(pool, tables)).filter(one => !one.installed)) {
    await inTransaction(pool, async client => {
      await client.query(ALONE)
      const [now] = await find(client, [table])
      if (now!.installed) return
      await client.query(`SET LOCAL lock_timeout = '3s'`)
      for (const statement of triggerStatements(table)) await client.query(statement)
    })
    added.push(table)
  }
  // Columns may have changed while triggers waited for their tables.
  await inTransaction(pool, enterNow)
  const seen = await snapshotNow(pool)
  await keepNumbers(pool, reader)
  return { seen, added }
}

/**
 * Enters the reader in the place of followers that each read the change table for itself. Returns from where on what they
 * need is there; `undefined` when none of them is.
 */
export function takeOver(
  pool: Pool,
  reader: string,
  followers: readonly string[],
): Promise<string | undefined> {
  return inTransaction(pool, async client => {
    await client.query(ALONE)
    if (!(await isInstalled(client))) return undefined
    const all = await entered(client, [reader, ...followers])
    if (all.length === 0) return undefined
    const shapes = new Map(all.flatMap(one => [...one.shapes]))
    const seen = all.map(one => one.seen).reduce((a, b) => (compareSnapshots(b, a) === 'before' ? b : a))
    await enter(client, reader, seen, [], shapes)
    await client.query(`DELETE FROM ${S}.follower WHERE id = ANY ($1::text[]) AND id <> $2`, [
      followers,
      reader,
    ])
    return seen
  })
}

export async function installationId(pool: Pool): Promise<string | undefined> {
  if (!(await isInstalled(pool))) return undefined
  return (await pool.query(`SELECT id::text FROM ${S}.installation`)).rows[0]?.id
}

const UNUSED_TRIGGER = `
SELECT t.tgname, t.tgrelid::regclass::text AS on
  FROM pg_catalog.pg_trigger t
 WHERE t.tgname IN ('${ROW_TRIGGER}', '${TRUNCATE_TRIGGER}')
   AND NOT EXISTS (SELECT FROM ${S}.follower f WHERE t.tgrelid = ANY (f.relations))
 LIMIT 1`

/** Takes the reader out, then the triggers nobody else needs, and all of it when no follower is left. */
export async function uninstall(pool: Pool, reader: string): Promise<void> {
  if (!(await isInstalled(pool))) return
  await pool.query(`DELETE FROM ${S}.follower WHERE id = $1`, [reader])
  for (let more = true; more;) {
    more = await inTransaction(pool, async client => {
      await client.query(ALONE)
      if (!(await isInstalled(client))) return false
      const [unused] = (await client.query(UNUSED_TRIGGER)).rows
      if (unused) {
        await client.query(`SET LOCAL lock_timeout = '3s'`)
        await client.query(`DROP TRIGGER IF EXISTS ${ident(unused.tgname)} ON ${unused.on}`)
        return true
      }
      const left = await client.query(`SELECT count(*) AS n FROM ${S}.follower`)
      if (left.rows[0].n === '0') await client.query(`DROP SCHEMA ${S} CASCADE`)
      return false
    })
  }
}
