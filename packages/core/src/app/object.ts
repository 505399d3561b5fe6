/** An object of an app as it is worked with: its fields by the OpenAPI document, and what may be done with its records. */
import type { LogicalType } from '../records/types.ts'

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
}

export interface AppObject {
  name: string
  title: string
  key: string
  label: string | null
  fields: AppField[]
  /** What the app lets others do. */
  can: { list: boolean; read: boolean; create: boolean; change: boolean; remove: boolean }
  /** Fields by whose value its records can be asked for. */
  findBy: string[]
}

/** What a write came to: an answer for each operation. */
export type WriteAnswer =
  | { answer: 'done'; id: string | null }
  /** There is no such record any more. */
  | { answer: 'gone' }
  | { answer: 'refused'; field: string | null; reason: string }

/** `values`: by field, canonical text. */
export type WriteOperation =
  | { op: 'create'; values: Record<string, string | null> }
  | { op: 'change'; id: string; values: Record<string, string | null> }
  | { op: 'remove'; id: string; values: Record<string, string | null> }
