import type { Config } from '../contract.ts'

export interface PostgresConfig {
  host: string
  port: number
  database: string
  user: string
  password: string
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
    screen: {
      type: 'string',
      title: 'Web address of its own screen',
      description: 'If people look after this system in a browser, a link to it is kept here.',
      pattern: '^(https?://.*)?$',
    },
  },
}

/** The settings, after they were validated against the schema. */
export function postgresConfig(config: Config): PostgresConfig {
  return { password: '', ...config } as PostgresConfig
}

export function postgresAddress({ host, port, database }: PostgresConfig): string {
  return `${host}:${port}/${database}`
}
