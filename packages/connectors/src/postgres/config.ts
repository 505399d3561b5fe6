import type { ConnectionOptions } from 'node:tls'
import type { Config } from '../contract.ts'
import { journalDefaults, journalProperties, type JournalSettings } from '../journal-settings.ts'

export interface PostgresConfig extends JournalSettings {
  host: string
  port: number
  database: string
  user: string
  password: string
  tls: 'off' | 'encrypt' | 'verify'
  tlsCa: string
  method: 'log' | 'triggers' | 'cursor'
  cursorColumn: string
  cursorEverySeconds: number
  cursorSettleSeconds: number
  screen?: string
}

export const postgresConfigSchema = {
  type: 'object',
  required: ['host', 'port', 'database', 'user'],
  additionalProperties: false,
  properties: {
    host: { type: 'string', title: 'Host', minLength: 1, default: '127.0.0.1' },
    port: { type: 'integer', title: 'Port', minimum: 1, maximum: 65535, default: 5432 },
    database: { type: 'string', title: 'Database', minLength: 1 },
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
    method: {
      type: 'string',
      title: 'Changes are captured from',
      description:
        'The log costs the server least and needs wal_level = logical. Triggers work where the log is out of reach. A cursor column needs neither, but tells no deletions.',
      enum: ['log', 'triggers', 'cursor'],
      enumTitles: ['its log (logical decoding)', 'triggers on each table', 'a cursor column in each table'],
      default: 'log',
    },
    cursorColumn: {
      type: 'string',
      title: 'Cursor column',
      description:
        'For the cursor: the column that says when a row was last written, a timestamp (without time zone: in UTC). Index it.',
      minLength: 1,
      default: 'updated_at',
      advanced: true,
    },
    cursorEverySeconds: {
      type: 'integer',
      title: 'Cursor: ask every … seconds',
      minimum: 1,
      maximum: 86_400,
      default: 10,
      advanced: true,
    },
    cursorSettleSeconds: {
      type: 'integer',
      title: 'Cursor: stay … seconds behind the clock',
      description:
        'For transactions of other users that this one is not shown; grant it pg_read_all_stats, and all are waited for.',
      minimum: 0,
      maximum: 86_400,
      default: 5,
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
export function postgresConfig(config: Config): PostgresConfig {
  return {
    password: '',
    tls: 'off',
    tlsCa: '',
    method: 'log',
    cursorColumn: 'updated_at',
    cursorEverySeconds: 10,
    cursorSettleSeconds: 5,
    ...journalDefaults,
    ...config,
  } as PostgresConfig
}

export function postgresAddress({ host, port, database }: PostgresConfig): string {
  return `${host}:${port}/${database}`
}

/** How the driver is told to encrypt. */
export function tlsOptions({ tls, tlsCa, host }: PostgresConfig): false | ConnectionOptions {
  if (tls === 'off') return false
  if (tls === 'encrypt') return { rejectUnauthorized: false }
  return { rejectUnauthorized: true, servername: host, ...(tlsCa.trim() === '' ? {} : { ca: tlsCa }) }
}
