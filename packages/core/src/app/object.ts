/** An object of an app as it is worked with: its fields by the OpenAPI document, and what may be done with its records. */
import type { LogicalType } from '../records/types.ts'
import type { DescribedRecords } from './described-records.ts'

export interface AppField {
  name: string
  title: string
  type: LogicalType
  /** As the document names it. */
  nativeType: string
  /** A record cannot be made without it. */
  required: boolean
  readOnly: boolean
  /** The only values that it takes. */
  choices: string[] | null
  maxLength: number | null
  unique: boolean
  /** The object whose key its values are. */
  refers: string | null
  email: boolean
  /** Of a list of attachments: where the link to one stands in it, which is what is read. */
  link?: string
}

/** What is read of a list of attachments. */
export const LINKS: LogicalType = { kind: 'list', of: { kind: 'utf8' } }

export interface AppObject {
  name: string
  title: string
  key: string
  label: string | null
  fields: AppField[]
  /** What the app lets others do. */
  can: { list: boolean; read: boolean; create: boolean; change: boolean; remove: boolean }
  /** The field that tells when a record was changed; its list can be asked for what has changed since. null: there is none. */
  changed: string | null
  /** The field that tells when a record was made; null: there is none. */
  created: string | null
  /** The field by which a change says of which record it is; null: the app takes a change of whatever there is. */
  version: string | null
  /** Fields by whose value its records can be asked for. */
  findBy: string[]
  /** What is put there so that its records can be kept in step. */
  adds?: string
  /** Why not everything can be done with its records, and what to do, where that is not plain. */
  closed?: string
}

/** With what its description says of its records. */
export function objectOf(
  known: Pick<AppObject, 'name' | 'title' | 'label' | 'fields'>,
  { key, list, read, create, change, remove, batch, created, version }: DescribedRecords,
): AppObject {
  return {
    ...known,
    key,
    can: {
      list: list !== undefined,
      read: read !== undefined,
      create: create !== undefined || batch?.create !== undefined,
      change: change !== undefined || batch?.change !== undefined,
      remove: remove !== undefined || batch?.remove !== undefined,
    },
    findBy: Object.keys(list?.where ?? {}),
    changed: list?.changed?.field ?? null,
    created: created ?? null,
    version: version?.field ?? null,
  }
}

/** What a write came to: an answer for each operation. */
export type WriteAnswer =
  | { answer: 'done'; id: string | null; record?: Record<string, string | null> }
  /** Somebody has changed the record since. */
  | { answer: 'changed' }
  /** There is no such record any more. */
  | { answer: 'gone' }
  | { answer: 'refused'; field: string | null; reason: string }

/** `values`: by field, canonical text. `version`: of the record that is changed, where the app looks at that; otherwise whatever there is is changed. */
export type WriteOperation =
  | { op: 'create'; values: Record<string, string | null> }
  | { op: 'change'; id: string; values: Record<string, string | null>; version?: string }
  | { op: 'remove'; id: string; values: Record<string, string | null> }
