import type { Checkpoint, Stream } from '@tide/core/checkpoint/checkpoint'
import type { Folded } from '@tide/core/apply/effect'
import type { FoldedKey } from '@tide/core/apply/fold'
import type { Key } from '@tide/core/records/value'
import type { HeldRow } from './holding.ts'
import type { LandingParts } from './landing-parts.ts'
import type { WorkingLane } from './lanes.ts'
import { NotAll, noteLanded, stillLanded, TRIES, type RefusedRows } from './refused.ts'
import { Shapes } from './shapes.ts'

/**
 * Lands rows of a lane as they stand, each by a state of its own; those that the target will not take are held. `commit` is
 * given what `landOnce` gives.
 */
export async function landStates(
  lane: WorkingLane,
  states: readonly FoldedKey[],
  parts: LandingParts,
  commit: (
    landed: number,
    write: (checkpoint: Checkpoint) => Promise<void>,
    counted: (stream: Stream) => Stream,
  ) => Promise<void>,
): Promise<void> {
  const { target, holding, clock } = parts
  const shaping = new Shapes(parts, [lane])
  const folds = new Map<WorkingLane, Folded>([[lane, { truncate: false, fresh: false, keys: states }]])
  const refused: RefusedRows = new Map()
  for (let tries = 0; ; tries++) {
    const writing = await target.begin()
    try {
      const { effects, held } = shaping.shaped(folds, clock(), refused)
      await shaping.apply(writing, effects)
      const kept = new Map<string, HeldRow>()
      const landed = new Map<number, Key[] | 'all'>()
      noteLanded(landed, folds, holding, kept)
      const ended = stillLanded(landed, held)
      await holding.keep(held)
      await commit(
        states.length - held.length,
        checkpoint => writing.commit(checkpoint),
        stream => holding.counted(stream, held, ended),
      )
      await holding.committed(held, ended)
      return
    } catch (thrown) {
      await writing.rollback()
      if (!(thrown instanceof NotAll)) throw thrown
      if (tries === TRIES) throw thrown.cause
    }
    const { effects } = shaping.shaped(folds, clock(), refused, (id, why) => refused.set(id, why))
    await shaping.search(effects, refused)
  }
}
