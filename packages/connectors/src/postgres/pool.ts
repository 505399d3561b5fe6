import pg, { type ClientConfig, type Pool } from 'pg'
import { tlsOptions } from '../server-settings.ts'
import type { PostgresConfig } from './config.ts'
import { PINNED_SETTINGS } from './text.ts'

/** Every value as the server prints it: no parsing, so no rounding. */
const asText = { getTypeParser: () => (value: unknown) => value }

/** What every connection to the server has in common. */
export function clientConfig(config: PostgresConfig): ClientConfig {
  return {
    host: config.host,
    port: config.port,
    database: config.database,
    user: config.user,
    password: config.password,
    ssl: tlsOptions(config) ?? false,
    keepAlive: true,
    connectionTimeoutMillis: 10_000,
    types: asText as unknown as pg.CustomTypesConfig,
    application_name: 'Constant Tide',
  }
}

/** Settings of a session that reads and prints canonical text. */
export const CANONICAL_OPTIONS = Object.entries(PINNED_SETTINGS)
  .filter(([name]) => name !== 'search_path')
  .map(([name, value]) => `-c ${name}=${value.replaceAll(' ', '\\ ')}`)
  .join(' ')

/** Up to `max` connections to one server. Opens none before the first query. */
export function openPool(config: PostgresConfig, { max = 4, options = '' } = {}): Pool {
  const pool = new pg.Pool({ ...clientConfig(config), max, options })
  // Of a client that was cut, the next query says so, or the one under way.
  pool.on('error', () => {})
  pool.on('connect', client => client.on('error', () => {}))
  return pool
}
