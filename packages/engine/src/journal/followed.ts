import type { KeyedTable } from '@tide/connectors/contract/records'
import type { Position } from '@tide/core/position/position'

/** A table as it is followed: its changes up to `since` are in its copy already. */
export type FollowedTable = KeyedTable & { since: Position | null }
