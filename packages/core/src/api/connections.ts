import type { Quoting } from '../definition/query-parameters.ts'

export interface ConnectorInfo {
  kind: string
  title: string
  summary: string
  band: 'apps' | 'databases' | 'warehouses' | 'files'
  roles: ('source' | 'target')[]
  /** How texts are written in its SQL. */
  quoting: Quoting
  configSchema: JsonSchema
}

/** The part of JSON Schema that connectors use. */
export interface JsonSchema {
  required?: string[]
  properties: Record<string, JsonSchemaProperty>
}

export interface JsonSchemaProperty {
  type: 'string' | 'integer' | 'boolean'
  title: string
  description?: string
  default?: string | number | boolean
  enum?: string[]
  enumTitles?: string[]
  minimum?: number
  maximum?: number
  writeOnly?: boolean
  /** Set in another way than by the form. */
  hidden?: boolean
  /** Long text. */
  multiline?: boolean
  /** Of an address the text that lies there is meant, once it is fetched. */
  fetched?: boolean
  /** Seldom changed; kept out of sight at first. */
  advanced?: boolean
}

export interface ConnectionInfo {
  id: string
  name: string
  kind: string
  config: Record<string, unknown>
  secretsSet: string[]
  address: string
  screen: string | null
  /** A person lets us in on a page of the system; `done`: somebody has. null: not in this way. */
  signIn: { done: boolean } | null
  lastCheck: { at: string; failed: number; warnings: number } | null
  /** Names of the pipelines that use it. */
  usedBy: { id: string; name: string }[]
}
