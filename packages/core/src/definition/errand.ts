import type { SendDeed } from '../api/send.ts'
import type { TwoWayDeed } from '../api/two-way.ts'
import type { HeldDeed } from './held.ts'
import type { RepairDeed } from './verification.ts'
import type { Position } from '../position/position.ts'

/** What people ask of a running pipeline. */
export interface Errand {
  id: string
  pipeline: string
  /**
   * `recopy`: the lanes are emptied and copied again. `rewind`: it goes on from another position. `held`: something is done with held records.
   * `let rows go`: what comes next may delete as much as it does. `verify`: there are lanes to be verified. `repair`: rows that differ
   * are written as they stand at the source. `pause lanes` and `continue lanes`: some stand still while the others go on. `land now`: what waits for more lands. `send`: records are sent to an app. `two-way`: something is done with pairs.
   */
  kind:
    | 'recopy'
    | 'pause lanes'
    | 'continue lanes'
    | 'rewind'
    | 'held'
    | 'let rows go'
    | 'verify'
    | 'repair'
    | 'land now'
    | 'send'
    | 'two-way'
  /** Indexes of the lanes that are copied again, stand still or go on. */
  lanes: number[]
  /** Where a rewind goes to. */
  to: Position | null
  /** Why changes are left out. */
  reason: string | null
  held: HeldDeed | null
  repair: RepairDeed | null
  send: SendDeed | null
  twoWay: TwoWayDeed | null
  /** Who asked; null until there is more than one person. */
  askedBy: string | null
  askedAt: string
  state: 'waiting' | 'under way' | 'done' | 'refused'
  /** What came of it, in words. */
  outcome: string | null
  endedAt: string | null
}
