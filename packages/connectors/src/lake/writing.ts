/** What the two ways of landing in a lake have in common. */
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { ApplyTransaction, LaneEffect } from '../contract/target.ts'
import type { Publication } from './publication.ts'

/** Makes a commit of what `add` has published. */
export type Publish = (
  checkpoint: Checkpoint,
  add: (publication: Publication) => Promise<void>,
) => Promise<void>

/** Part of a transaction: what it has written is published with the commit, or goes. */
export interface Writing {
  apply(effects: readonly LaneEffect[]): ReturnType<ApplyTransaction['apply']>
  publish(publication: Publication): Promise<void>
  /** The commit has gone through. */
  published(): Promise<void>
  /** There was none. */
  abort(): Promise<void>
}
