import pg, { type Pool } from 'pg'
import type { PostgresConfig } from './config.ts'

/** Every value as the server prints it: no parsing, so no rounding. */
const asText = { getTypeParser: () => (value: unknown) => value }

/** Up to four connections to one server. Opens none before the first query. */
export function openPool(config: PostgresConfig): Pool {
  const pool = new pg.Pool({
    host: config.host,
    port: config.port,
    database: config.database,
    user: config.user,
    password: config.password,
    max: 4,
    keepAlive: true,
    connectionTimeoutMillis: 10_000,
    types: asText as unknown as pg.CustomTypesConfig,
    application_name: 'Constant Tide',
  })
  pool.on('error', () => {}) // an idle client that was cut; the next query says so
  return pool
}
