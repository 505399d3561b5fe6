/** Questions that people have given a name. */
import type { QueryParameter } from '../definition/query-parameters.ts'

export interface SavedQuery {
  id: string
  name: string
  /** The connection that is asked. */
  connection: string
  sql: string
  /** Columns that together tell a row from all others. */
  key: string[]
  /** What the SQL leaves open. */
  parameters: QueryParameter[]
  version: number
  /** ISO 8601. */
  changedAt: string
}

export interface SavedQueryVersion extends Pick<SavedQuery, 'sql' | 'key' | 'parameters'> {
  number: number
  at: string
}

/** With the pipelines that send what it asks for. */
export interface SavedQueryInfo extends SavedQuery {
  usedBy: { id: string; name: string }[]
}

/** Whether a key tells the rows of a question apart. */
export interface KeyCheck {
  rows: number
  /** Rows in which a part of it is missing. */
  keyless: number
  /** Keys that several rows have. */
  doubled: number
  /** One of them. */
  example: string[] | null
}
