import type { Config, Connector, Session as OpenSession } from '../contract/session.ts'
import { readCatalogue } from './catalogue.ts'
import { checkMariadb } from './check.ts'
import type { Session } from './client.ts'
import { withSession } from './client.ts'
import { mariadbConfig, mariadbConfigSchema } from './config.ts'
import { PLACE_SETTINGS, serverAddress } from '../server-settings.ts'
import { mariadbFailure } from './errors.ts'
import { logSide } from './log/side.ts'
import { mariadbRemoval } from './removal.ts'
import { mariadbRows } from './row-side.ts'
import { readRow, readRows } from './rows.ts'
import { tableName } from './sql.ts'
import { ask, askForRows, look, ordered, scan } from './question/ask.ts'
import { MariadbTarget } from './target/target.ts'

/** As `sql_mode` of its sessions has it. */
const QUOTING = 'backslashes'

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
    rows: (table, keys) => within(session => readRows(session, table, keys)),
    ordered: (table, limits) => ordered(settings, table, limits),
    clock: () => within(clockOf),
    quoting: QUOTING,
    query: (sql, limits) => ask(settings, sql, limits),
    stream: (sql, limits) => askForRows(settings, sql, limits),
    scan: (table, limits) => scan(settings, table, limits),
    log: logSide(settings, guard),
    removal: mariadbRemoval(within),
    singleRows: mariadbRows(within),
    target,
    close: () => target.close(),
  }
}

async function clockOf(session: Session): Promise<string> {
  const [row] = await session.arrays(`SELECT DATE_FORMAT(UTC_TIMESTAMP(6), '%Y-%m-%dT%H:%i:%s.%fZ')`)
  return row![0]!
}

export const mariadb: Connector = {
  kind: 'mariadb',
  title: 'MariaDB',
  summary: 'An operational database, version 10.5 or later, followed by its binary log, or written to.',
  band: 'databases',
  roles: ['source', 'target'],
  configSchema: mariadbConfigSchema,
  questionsAtOnce: 2,
  quoting: QUOTING,
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
