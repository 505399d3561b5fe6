import { Type, type Static } from 'typebox'
import type { LogicalType } from './types.ts'

/** A table's name within its system. */
export const datasetNameSchema = Type.Object({ namespace: Type.String(), name: Type.String() })

export type DatasetName = Static<typeof datasetNameSchema>

export interface Field {
  name: string
  type: LogicalType
  /** The type as the system itself names it. */
  nativeType: string
  /** How it compares texts, where that is not the same for all: `CHARACTER SET … COLLATE …`. */
  collation?: string
  nullable: boolean
  /** Computed by the system from other columns. */
  computed?: boolean
  /** The system gives a new row a value where none is said; `always`: it takes no other. Known of databases alone. */
  preset?: 'unsaid' | 'always'
  /** Why changes to it are not captured; such a column cannot be followed. */
  notCaptured?: string
  /** Where it is not null, it says why the row could not be read: such a row is held. */
  tellsProblem?: true
}

/** A table, view or collection, as a catalogue describes it. */
export interface Dataset extends DatasetName {
  kind: 'table' | 'view'
  fields: Field[]
  /** Column names of the key, in key order; empty when there is none that identifies a row. */
  key: string[]
  /** Why there is no usable key, where it is not simply absent. */
  keyNote?: string
  /** Its unique indexes, the primary key first. */
  uniques?: Unique[]
  /** Foreign keys: which of its columns say which rows of another table it refers to. */
  refers?: Reference[]
  /** Of a row that is changed or deleted, its log tells all as it was, not the key alone. */
  tellsBefore?: true
  /** Why its changes cannot be captured at all, by the way that its source was set to. */
  notFollowed?: string
  /** What happens to it that following does not see. */
  unseen?: string
  rows: number
  /** False when `rows` is the system's estimate. */
  rowsExact: boolean
  bytes: number
}

export interface Reference {
  columns: string[]
  to: DatasetName
  /** Columns there, in the same order. */
  by: string[]
}

export interface Unique {
  /** `name(4)` for the first four characters of one. */
  columns: string[]
  primary: boolean
}

/** `namespace.name` for people; quoted only where the name itself would mislead. */
export function printName({ namespace, name }: DatasetName): string {
  const plain = (part: string) => (/^[\p{L}_][\p{L}\p{N}_$]*$/u.test(part) ? part : `"${visible(part)}"`)
  return `${plain(namespace)}.${plain(name)}`
}

/** Characters that turn the text around them, or cannot be seen, as their numbers. */
function visible(text: string): string {
  return text.replace(/[\p{Cc}\p{Bidi_Control}]/gu, one => `\\u{${one.codePointAt(0)!.toString(16)}}`)
}

/** Equal for the same table only, whatever characters its name holds. */
export function datasetId({ namespace, name }: DatasetName): string {
  return JSON.stringify([namespace, name])
}

/** The inverse of `datasetId`. */
export function datasetOf(id: string): DatasetName {
  const [namespace, name] = JSON.parse(id) as [string, string]
  return { namespace, name }
}
