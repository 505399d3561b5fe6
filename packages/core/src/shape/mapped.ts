import type { LogicalType } from '../records/types.ts'

/** A column as the source has it. */
export interface ToMap {
  type: LogicalType
  /** What the source calls the type. */
  nativeType: string
  /** How the source compares it, where it says so: `CHARACTER SET … COLLATE …`. */
  collation?: string | undefined
  /** Source and target are of one kind, so that the source's own types are the target's. */
  sameKind: boolean
  /** How many columns the key has that it is part of; 0: it is part of none. */
  keyParts: number
}

/** What a column becomes at the target. */
export interface MappedType {
  native: string
  /** What is different about it there. */
  note?: string
  /** What to do about that; by default it is said that queries must cast it. */
  remedy?: string
  /** Why the target cannot hold it, or could not tell apart what the source can. */
  refused?: string
}
