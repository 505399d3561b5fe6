import type { Key, Row } from '@tide/core/records/value'
import type { Config, Connector, Session as OpenSession } from '../contract/session.ts'
import type { KeyedTable } from '../contract/records.ts'
import { readCatalogue } from './catalogue.ts'
import { checkMariadb } from './check.ts'
import type { Session } from './client.ts'
import { withSession } from './client.ts'
import { mariadbConfig, mariadbConfigSchema } from './config.ts'
import { PLACE_SETTINGS, serverAddress } from '../server-settings.ts'
import { mariadbFailure } from './errors.ts'
import { logSide } from './log/side.ts'
import { canonicalRow } from './log/view.ts'
import { canonicalColumn, ident, keyLiteral, tableName } from './sql.ts'
import { ask, askForRows, look, scan } from './question/ask.ts'
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
    preview: (table, limits) => look(settings, `SELECT * FROM ${tableName(table)}`, limits),
    count: async (table, limits) => {
      const { rows } = await look(settings, `SELECT count(*) FROM ${tableName(table)}`, limits)
      return Number(rows[0]![0])
    },
    row: (table, key) => within(session => readRow(session, table, key)),
    query: (sql, limits) => ask(settings, sql, limits),
    stream: (sql, limits) => askForRows(settings, sql, limits),
    scan: (table, limits) => scan(settings, table, limits),
    log: logSide(settings, guard),
    target,
    close: () => target.close(),
  }
}

async function readRow(
  session: Session,
  { dataset, columns, key }: KeyedTable,
  value: Key | null,
): Promise<Row | null> {
  const list = columns.map(column => canonicalColumn(column.name, column.type, column.nativeType))
  const where = key.map((part, i) => {
    const { type, nativeType } = columns.find(column => column.name === part)!
    return value ? `${ident(part)} = ${keyLiteral(value[i]!, type, nativeType)}` : 'TRUE'
  })
  const order = key.map(part => `${ident(part)} DESC`).join(', ')
  const rows = await session.arrays(
    `SELECT ${list.join(', ')} FROM ${tableName(dataset)} WHERE ${where.join(' AND ')} ORDER BY ${order} LIMIT 1`,
  )
  const floats = columns.flatMap(({ type }, i) => (type.kind === 'float' && type.bits === 32 ? [i] : []))
  return rows[0] ? canonicalRow(rows[0], floats) : null
}

export const mariadb: Connector = {
  kind: 'mariadb',
  title: 'MariaDB',
  summary: 'An operational database, version 10.5 or later, followed by its binary log, or written to.',
  band: 'databases',
  roles: ['source', 'target'],
  configSchema: mariadbConfigSchema,
  questionsAtOnce: 2,
  placeSettings: PLACE_SETTINGS,
  fixedWhileFollowed: [],
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
