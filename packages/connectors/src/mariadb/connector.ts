import { queryRefusal } from '../query-refusal.ts'
import type { Grid } from '@tide/core/api/browse'
import type { DatasetName } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import type { Config, Connector, QueryLimits, RowTable, Session as OpenSession } from '../contract.ts'
import { readCatalogue } from './catalogue.ts'
import { checkMariadb } from './check.ts'
import { Session, withSession } from './client.ts'
import { mariadbConfig, mariadbConfigSchema, type MariadbConfig } from './config.ts'
import { serverAddress } from '../server-settings.ts'
import { mariadbFailure } from './errors.ts'
import { logSide } from './log/side.ts'
import { canonicalRow } from './log/view.ts'
import { canonicalColumn, ident, keyLiteral, tableName } from './sql.ts'
import { MariadbTarget } from './target/target.ts'

async function open(config: Config): Promise<OpenSession> {
  const settings = mariadbConfig(config)
  const where = serverAddress(settings)
  /** Turns what goes wrong into a Failure that names the server. */
  const guard = <T>(work: Promise<T>) => work.catch(error => Promise.reject(mariadbFailure(error, where)))
  const within = <T>(body: (session: Session) => Promise<T>) => guard(withSession(settings, body))
  await within(async () => {})
  const target = new MariadbTarget(settings, where)
  return {
    catalogue: () => within(readCatalogue),
    preview: (table, limit) => within(session => preview(session, table, limit)),
    count: table =>
      within(async session => {
        const [row] = await session.arrays(`SELECT count(*) FROM ${tableName(table)}`)
        return Number(row![0])
      }),
    row: (table, key) => within(session => readRow(session, table, key)),
    query: (sql, limits) => query(settings, sql, limits),
    log: logSide(settings, guard),
    target,
    close: () => target.close(),
  }
}

async function preview(session: Session, table: DatasetName, limit: number): Promise<Grid> {
  return grid(session, `SELECT * FROM ${tableName(table)} LIMIT ${Math.floor(limit)}`, performance.now())
}

async function readRow(
  session: Session,
  { name, columns, key }: RowTable,
  value: Key | null,
): Promise<Row | null> {
  const list = columns.map(column => canonicalColumn(column.name, column.type, column.nativeType))
  const where = key.map((part, i) => {
    const { type, nativeType } = columns.find(column => column.name === part)!
    return value ? `${ident(part)} = ${keyLiteral(value[i]!, type, nativeType)}` : 'TRUE'
  })
  const order = key.map(part => `${ident(part)} DESC`).join(', ')
  const rows = await session.arrays(
    `SELECT ${list.join(', ')} FROM ${tableName(name)} WHERE ${where.join(' AND ')} ORDER BY ${order} LIMIT 1`,
  )
  const floats = columns.flatMap(({ type }, i) => (type.kind === 'float' && type.bits === 32 ? [i] : []))
  return rows[0] ? canonicalRow(rows[0], floats) : null
}

/** One reading statement; the server itself lets it write nothing, and takes one at a time. */
async function query(config: MariadbConfig, sql: string, limits: QueryLimits): Promise<Grid> {
  const began = performance.now()
  const session = await Session.open(config, { database: config.database })
  try {
    await session.run('START TRANSACTION READ ONLY')
    await session.run(
      `SET SESSION max_statement_time = ${limits.timeoutMs / 1000}, sql_select_limit = ${limits.maxRows + 1}`,
    )
    const { rows, ...rest } = await grid(session, sql.trim().replace(/;\s*$/, ''), began)
    const cut = rows.length > limits.maxRows
    return { ...rest, rows: rows.slice(0, limits.maxRows), total: cut ? null : rows.length }
  } catch (error) {
    const { code, message } = error as { code?: string; message: string }
    throw queryRefusal(message, code === 'ER_STATEMENT_TIMEOUT', limits)
  } finally {
    await session.abandon()
  }
}

async function grid(session: Session, sql: string, began: number): Promise<Grid> {
  const { fields, rows } = await session.described(sql)
  return { columns: fields, rows, total: null, milliseconds: performance.now() - began }
}

export const mariadb: Connector = {
  kind: 'mariadb',
  title: 'MariaDB',
  summary: 'An operational database, version 10.5 or later, followed by its binary log, or written to.',
  band: 'databases',
  roles: ['source', 'target'],
  configSchema: mariadbConfigSchema,
  identity: config => {
    const { host, port } = mariadbConfig(config)
    return `${host}:${port}`
  },
  address: config => {
    const settings = mariadbConfig(config)
    return `mariadb://${settings.user}@${serverAddress(settings)}`
  },
  check: config => checkMariadb(mariadbConfig(config)),
  open,
}
