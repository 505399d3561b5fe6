/**
 * Sends random statements to real systems the way a person would, through a running server, and looks whether anything was
 * changed, anything has ended, or anything was never answered.
 */
import { call } from '../packages/stand-ins/src/api-call.ts'
import { DuckDBInstance } from '@duckdb/node-api'
import { existsSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { chance as chanceOf } from '../differential/chance.ts'
import type { Random } from '../soak/random.ts'
import { startServer } from '../e2e/server.ts'
import { startRealMariadb } from '../packages/connectors/tests/real-mariadb.ts'
import { startRealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { ALLOWED, statement, type Kind, type Signature } from './statements.ts'

/** The server gives up after 20 s; whatever takes longer than this is stuck. */
const STUCK_MS = 30_000
const AT_ONCE = 2
const LOOK_EVERY = 100
const WRITTEN = '/tmp/constant-tide-fuzz'

export interface Fuzzed {
  statements: number
  answered: number
  changed: number
  crashed: number
  stuck: number
}

interface System {
  kind: Kind
  connection: string
  signatures: Signature[]
  /** What there is to be changed, and that the system has not begun anew. */
  state(): Promise<string>
}

const SETUP = [
  'CREATE TABLE trays (id int PRIMARY KEY, label varchar(20))',
  `INSERT INTO trays VALUES (1, 'kale'), (2, 'chard'), (3, NULL)`,
  'CREATE SEQUENCE numbers',
]

export async function fuzzQueries(ms: number, seed: number, say: (line: string) => void): Promise<Fuzzed> {
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-fuzz-'))
  const [server, postgres, mariadb] = await Promise.all([
    startServer(join(folder, 'data')),
    startRealPostgres(),
    startRealMariadb(),
  ])
  const end = { server: false }
  server.child.once('exit', () => (end.server = true))
  const systems = await connect(folder, server.url, postgres, mariadb)
  const told: Fuzzed = { statements: 0, answered: 0, changed: 0, crashed: 0, stuck: 0 }
  const until = Date.now() + ms
  await Promise.all(
    systems.flatMap((system, s) =>
      Array.from({ length: AT_ONCE }, (_, i) => work(system, chanceOf(seed * 100 + s * 10 + i))),
    ),
  )
  if ((await server.stop()) !== 0) {
    told.crashed++
    say('the server did not end well')
  }
  await postgres.close()
  await mariadb.close()
  rmSync(folder, { recursive: true, force: true })
  return told

  async function work(system: System, chance: Random): Promise<void> {
    const before = await system.state()
    let since: string[] = []
    while (Date.now() < until && !end.server) {
      const sql = statement(system.kind, system.signatures, chance)
      since.push(sql)
      told.statements++
      const fault = await send(server.url, system.connection, sql)
      if (fault === undefined) told.answered++
      else if (fault !== 'refused') {
        told[fault.kind]++
        say(`${system.kind}, ${fault.kind}: ${fault.said}\n  ${sql}`)
      }
      if (since.length < LOOK_EVERY && Date.now() < until) continue
      if ((await system.state()) !== before || existsSync(WRITTEN)) {
        told.changed++
        say(`${system.kind} has changed after one of:\n  ${since.join('\n  ')}`)
        return
      }
      since = []
    }
    if (end.server) {
      told.crashed++
      say(`the server has ended after ${since.at(-1)}`)
    }
  }
}

/** Undefined when it was answered. */
async function send(
  url: string,
  connection: string,
  sql: string,
): Promise<undefined | 'refused' | { kind: 'crashed' | 'stuck'; said: string }> {
  try {
    const answer = await fetch(`${url}/api/query`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ connection, sql: sql.slice(0, 100_000) }),
      signal: AbortSignal.timeout(STUCK_MS),
    })
    const said = await answer.text()
    if (answer.ok) return undefined
    // What cannot be reached has ended; an error of ours is as bad.
    return answer.status < 500 ? 'refused' : { kind: 'crashed', said }
  } catch (error) {
    const { name, message } = error as Error
    return { kind: name === 'TimeoutError' ? 'stuck' : 'crashed', said: message }
  }
}

async function connect(
  folder: string,
  url: string,
  postgres: Awaited<ReturnType<typeof startRealPostgres>>,
  mariadb: Awaited<ReturnType<typeof startRealMariadb>>,
): Promise<System[]> {
  const add = async (name: string, kind: Kind, config: object) =>
    (await call<{ id: string }>(url, 'POST', '/connections', { name, kind, config })).id
  const pgClient = await postgres.connect()
  for (const sql of [...SETUP, `SELECT pg_create_physical_replication_slot('kept')`])
    await pgClient.query(sql)
  const mariaClient = await mariadb.connect()
  for (const sql of ['USE site', ...SETUP]) await mariaClient.run(sql)
  const path = join(folder, 'w.duckdb')
  const instance = await DuckDBInstance.create(path)
  const made = await instance.connect()
  const takes = await made.runAndReadAll(
    `SELECT function_name, array_to_string(parameter_types, ';') FROM duckdb_functions() WHERE function_type IN ('scalar', 'aggregate')`,
  )
  for (const sql of SETUP) await made.run(sql)
  made.disconnectSync()
  instance.closeSync()
  const duckdb = await add('D', 'duckdb', { path })
  const signatures = (kind: Kind, rows: (string | null)[][]) =>
    rows.flatMap(([name, types]) =>
      ALLOWED[kind].includes(name!) ? [{ name: name!, types: (types ?? '').split(';').filter(Boolean) }] : [],
    )
  const args = await pgClient.query({
    text: `SELECT proname, (SELECT string_agg(t::regtype::text, ';' ORDER BY i) FROM unnest(proargtypes::oid[]) WITH ORDINALITY u(t, i))
             FROM pg_proc WHERE pronamespace = 'pg_catalog'::regnamespace AND provariadic = 0`,
    rowMode: 'array',
  })
  const question = async (sql: string) =>
    JSON.stringify((await call<{ rows: unknown }>(url, 'POST', '/query', { connection: duckdb, sql })).rows)
  return [
    {
      kind: 'postgres',
      signatures: signatures('postgres', args.rows),
      connection: await add('P', 'postgres', { ...postgres.config, method: 'log' }),
      state: async () =>
        JSON.stringify(
          (
            await pgClient.query(
              `SELECT (SELECT string_agg(t::text, ';' ORDER BY id) FROM trays t), (SELECT last_value || is_called::text FROM numbers) AS n,
                      (SELECT string_agg(slot_name, ',' ORDER BY 1) FROM pg_replication_slots) AS slots,
                      (SELECT count(*) FROM pg_class WHERE relnamespace NOT IN (SELECT oid FROM pg_namespace WHERE nspname LIKE 'pg\\_%')) AS classes,
                      (SELECT count(*) FROM pg_largeobject_metadata) AS large, pg_postmaster_start_time() AS began,
                      (SELECT md5(string_agg(name || setting, ',' ORDER BY name)) FROM pg_settings) AS settings`,
            )
          ).rows,
        ),
    },
    {
      kind: 'mariadb',
      signatures: ALLOWED.mariadb.flatMap(name =>
        ['', 'text', 'int', 'text;text', 'text;int', 'int;int', 'text;text;text'].map(types => ({
          name,
          types: types.split(';').filter(Boolean),
        })),
      ),
      connection: await add('M', 'mariadb', { ...mariadb.config }),
      state: async () =>
        JSON.stringify([
          await mariaClient.arrays('SELECT * FROM site.trays ORDER BY id'),
          await mariaClient.arrays('SELECT next_not_cached_value FROM site.numbers'),
          await mariaClient.arrays('SHOW DATABASES'),
          await mariaClient.arrays('SELECT host, user, priv FROM mysql.global_priv ORDER BY 1, 2'),
          await mariaClient.arrays(
            `SELECT * FROM information_schema.global_variables WHERE variable_name NOT LIKE 'GTID%' AND variable_name NOT IN ('TIMESTAMP', 'LAST_INSERT_ID', 'RAND_SEED1', 'INNODB_BUFFER_POOL_LOAD_NOW') ORDER BY 1`,
          ),
          (await mariaClient.arrays('SHOW MASTER STATUS'))[0]!.slice(0, 2),
        ]),
    },
    {
      kind: 'duckdb',
      signatures: signatures('duckdb', takes.getRows() as string[][]),
      connection: duckdb,
      state: async () =>
        [
          await question('SELECT * FROM trays ORDER BY id'),
          await question('SELECT sequence_name, last_value FROM duckdb_sequences()'),
          await question('SELECT name, value FROM duckdb_settings() ORDER BY 1'),
          await question('SELECT count(*) FROM duckdb_tables()'),
          await question('SELECT database_name FROM duckdb_databases() ORDER BY 1'),
        ].join(),
    },
  ]
}
