import { Failure } from '@tide/core/failure'
import { parsePlace } from '@tide/core/position/snapshot'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import type { Pool } from 'pg'
import type { Config, Connector, RowTable, Session, SourceSide } from '../contract.ts'
import { CAPTURE_SCHEMA, readCatalogue, tableName } from './catalogue.ts'
import { install, installStatements, inTransaction, uninstall } from './capture.ts'
import { captureGone, ChangeReader, prune } from './changes.ts'
import { checkPostgres } from './check.ts'
import { cursorSide } from './cursor/side.ts'
import { postgresConfig, postgresConfigSchema, type PostgresConfig } from './config.ts'
import { PLACE_SETTINGS, serverAddress } from '../server-settings.ts'
import { copyRanges, PIN } from './copy.ts'
import { postgresFailure } from './errors.ts'
import { logSide } from './log/side.ts'
import { CANONICAL_OPTIONS, openPool } from './pool.ts'
import { ask, look } from './question/ask.ts'
import { PostgresTarget } from './target/target.ts'
import { ident, literal } from './text.ts'

/** Pruned changes leave dead rows behind; after this many the change table is vacuumed. */
const VACUUM_AFTER = 20_000

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
    ...sideOf(settings, pool, guard),
    query: (sql, limits) => ask(settings, sql, limits),
    target: new PostgresTarget(writers, where),
    close: async () => {
      await Promise.all([pool.end(), writers.end()])
    },
  }
}

function sideOf(
  settings: PostgresConfig,
  pool: Pool,
  guard: <T>(work: Promise<T>) => Promise<T>,
): Pick<Session, 'source' | 'log'> {
  switch (settings.method) {
    case 'log':
      return { log: logSide(settings, pool, guard) }
    case 'cursor':
      return { source: cursorSide(pool, guard, settings) }
    case 'triggers':
      return { source: sourceSide(pool, guard) }
  }
}

function sourceSide(pool: Pool, guard: <T>(work: Promise<T>) => Promise<T>): SourceSide {
  const readers = new Map<string, ChangeReader>()
  const readerOf = (follower: string): ChangeReader => {
    let reader = readers.get(follower)
    if (!reader) readers.set(follower, (reader = new ChangeReader(pool, follower)))
    return reader
  }
  let pruned = 0
  return {
    captureNote:
      'A change table and two triggers a table, taken off again by Stop. Each written row costs the source one more insert. Sessions with session_replication_role = replica bypass the triggers.',
    captureStatements: tables => guard(installStatements(pool, tables)),
    startCapture: (follower, tables) =>
      guard(
        (async () => {
          const seen = await install(pool, follower, tables)
          const installation = await pool.query(`SELECT id::text FROM ${CAPTURE_SCHEMA}.installation`)
          readers.delete(follower)
          return { kind: 'postgres change table', incarnation: installation.rows[0].id, at: seen }
        })(),
      ),
    stopCapture: follower => guard(uninstall(pool, follower)),
    view: async () => ({
      position: null,
      // One is read while another loads and a third waits for its turn.
      readers: 3,
      async *copy(lane, after, signal) {
        try {
          yield* copyRanges(pool, lane, after, signal)
        } catch (error) {
          const { code } = error as { code?: string }
          if (code === '42P01') throw gone(lane.dataset, error)
          return await guard(Promise.reject(error))
        }
      },
      close: async () => {},
    }),
    read: (follower, lanes, from, maxEvents) =>
      guard(captured(readerOf(follower).read(lanes, from, maxEvents))),
    head: (follower, lanes, from) => guard(captured(readerOf(follower).head(lanes, from))),
    acknowledge: (follower, upTo) =>
      guard(
        (async () => {
          pruned += await prune(pool, follower, parsePlace(upTo.at).seen)
          if (pruned < VACUUM_AFTER) return
          pruned = 0
          await pool.query(`VACUUM (TRUNCATE off) ${CAPTURE_SCHEMA}.change`)
        })(),
      ),
  }
}

/** What reads the change table and finds none has lost its capture. */
function captured<T>(reading: Promise<T>): Promise<T> {
  return reading.catch(error =>
    Promise.reject(['42P01', '3F000'].includes(error.code) ? captureGone() : error),
  )
}

function gone(table: DatasetName, cause: unknown): Failure {
  return new Failure(
    'structural',
    `The table ${printName(table)} is not there any more.`,
    'Leave it out in the setup, or create it again at the source and start again.',
    cause,
  )
}

async function readRow(pool: Pool, { name, columns, key }: RowTable, value: Key | null): Promise<Row | null> {
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
      text: `SELECT CASE ${large} END, ${values.join(', ')} FROM ${tableName(name)} t ${value ? `WHERE ${where}` : last} LIMIT 1`,
      values: value ? [...value] : [],
      rowMode: 'array',
    })
    if (!result.rows[0]) return null
    const [tooLarge, ...row] = result.rows[0] as (string | null)[]
    if (typeof tooLarge !== 'string') return row
    const told = key.map((part, i) => `${part} ${value?.[i]?.slice(0, 60) ?? 'last in order'}`).join(', ')
    throw new Failure(
      'value',
      `${printName(name)}.${tooLarge}: the value is larger than can be carried (${LARGEST_VALUE_BYTES / 2 ** 20} MB), in the row with ${told}.`,
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
