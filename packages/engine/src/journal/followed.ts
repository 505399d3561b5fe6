import type { KeyedTable } from '@tide/connectors/contract/records'
import type { Position } from '@tide/core/position/position'

/** A table as it is followed. */
export type FollowedTable = KeyedTable & {
  /** Its changes up to here are in its copy already. */
  since: Position | null
  /** Columns that it has and that are not read; `whatever else`: of others it is no matter what they are. */
  leftOut?: readonly string[] | 'whatever else' | undefined
}
