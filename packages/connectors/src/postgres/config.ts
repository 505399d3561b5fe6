import type { Config } from '../contract/session.ts'
import { journalDefaults, journalProperties, type JournalSettings } from '../journal-settings.ts'
import { screenProperty, serverDefaults, serverProperties, type ServerSettings } from '../server-settings.ts'

export interface PostgresConfig extends ServerSettings, JournalSettings {
  method: 'log' | 'triggers' | 'cursor'
  cursorColumn: string
  cursorEverySeconds: number
  cursorSettleSeconds: number
}

export const postgresConfigSchema = {
  type: 'object',
  required: ['host', 'port', 'database', 'user'],
  additionalProperties: false,
  properties: {
    ...serverProperties(5432),
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
    screen: screenProperty,
  },
}

/** The settings, after they were validated against the schema. */
export function postgresConfig(config: Config): PostgresConfig {
  return {
    ...serverDefaults,
    method: 'log',
    cursorColumn: 'updated_at',
    cursorEverySeconds: 10,
    cursorSettleSeconds: 5,
    ...journalDefaults,
    ...config,
  } as PostgresConfig
}
