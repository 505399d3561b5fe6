import type { Config } from '../contract/session.ts'
import { journalDefaults, journalProperties, type JournalSettings } from '../journal-settings.ts'
import { screenProperty, serverDefaults, serverProperties, type ServerSettings } from '../server-settings.ts'

export interface MariadbConfig extends ServerSettings, JournalSettings {}

export const mariadbConfigSchema = {
  type: 'object',
  required: ['host', 'port', 'database', 'user'],
  additionalProperties: false,
  properties: {
    ...serverProperties(3306, {
      description: 'Others on the same server are seen, too, as far as the user may.',
    }),
    ...journalProperties,
    screen: screenProperty,
  },
}

/** The settings, after they were validated against the schema. */
export function mariadbConfig(config: Config): MariadbConfig {
  return { ...serverDefaults, ...journalDefaults, ...config } as MariadbConfig
}
