import type { NodePgDatabase } from 'drizzle-orm/node-postgres'

/** What repositories work on, wherever the database runs. */
export type Database = NodePgDatabase<Record<string, never>>
