import type { SslOptions } from 'mysql2'
import type { Config } from '../contract.ts'
import { journalDefaults, journalProperties, type JournalSettings } from '../journal-settings.ts'

export interface MariadbConfig extends JournalSettings {
  host: string
  port: number
  database: string
  user: string
  password: string
  tls: 'off' | 'encrypt' | 'verify'
  tlsCa: string
  screen?: string
}

export const mariadbConfigSchema = {
  type: 'object',
  required: ['host', 'port', 'database', 'user'],
  additionalProperties: false,
  properties: {
    host: { type: 'string', title: 'Host', minLength: 1, default: '127.0.0.1' },
    port: { type: 'integer', title: 'Port', minimum: 1, maximum: 65535, default: 3306 },
    database: {
      type: 'string',
      title: 'Database',
      description: 'Others on the same server are seen, too, as far as the user may.',
      minLength: 1,
    },
    user: { type: 'string', title: 'User', minLength: 1 },
    password: { type: 'string', title: 'Password', writeOnly: true, default: '' },
    tls: {
      type: 'string',
      title: 'Encryption',
      enum: ['off', 'encrypt', 'verify'],
      enumTitles: ['none', 'TLS', 'TLS, and verify who answers'],
      default: 'off',
      advanced: true,
    },
    tlsCa: {
      type: 'string',
      title: 'Certificate authority',
      description: 'PEM text, when the server’s certificate is not signed by a public one.',
      default: '',
      multiline: true,
      advanced: true,
    },
    ...journalProperties,
    screen: {
      type: 'string',
      title: 'Web address of its own screen',
      description: 'If people look after this system in a browser, a link to it is kept here.',
      pattern: '^(https?://.*)?$',
      advanced: true,
    },
  },
}

/** The settings, after they were validated against the schema. */
export function mariadbConfig(config: Config): MariadbConfig {
  return { password: '', tls: 'off', tlsCa: '', ...journalDefaults, ...config } as MariadbConfig
}

export function mariadbAddress({ host, port, database }: MariadbConfig): string {
  return `${host}:${port}/${database}`
}

export function tlsOptions({ tls, tlsCa }: MariadbConfig): SslOptions | undefined {
  if (tls === 'off') return undefined
  if (tls === 'encrypt') return { rejectUnauthorized: false }
  return { rejectUnauthorized: true, verifyIdentity: true, ...(tlsCa.trim() === '' ? {} : { ca: tlsCa }) }
}
