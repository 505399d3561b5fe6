/** From folded keys to what a target table is to become. */
import type { LaneShaper, Misfit } from '../shape/row.ts'
import { keyText, type Key } from '../records/value.ts'
import type { FoldedKey } from './fold.ts'
import type { NetEffect, Put } from './net-effect.ts'

export interface ShapedEffect {
  effect: NetEffect
  /** Rows that must be fetched at the source, for the columns that are named. */
  needs: { identity: Key; columns: string[] }[]
  misfits: { identity: Key; misfit: Misfit }[]
}

/** What is folded; an `IdentityFold`, or rows that were fetched. */
export interface Folded {
  truncate: boolean
  /** When the last truncate was committed. */
  truncatedAt?: string | undefined
  fresh: boolean
  keys: Iterable<FoldedKey>
}

/**
 * Shapes all keys of a fold. Where the key at the target is another one, what falls on one key there is folded once more:
 * a row that stands there in the end is not removed, and of two that would both stand there none is put.
 */
export function shapedEffect(folded: Folded, shaper: LaneShaper, landedAt: string): ShapedEffect {
  const { fresh, keys } = folded
  const emptied = emptiedBy(folded, shaper, landedAt)
  const removed: Key[] = []
  const puts: Put[] = []
  const needs: ShapedEffect['needs'] = []
  const misfits: ShapedEffect['misfits'] = []
  // Of rows that are kept when they are deleted, one may have come back under a key that is equal, and printed otherwise.
  const { keyId } = shaper
  const kept = keyId && shaper.keepsDeleted && shaper.keyIsIdentity ? new Map<string, Put>() : undefined
  const live = new Set<string>()
  for (const state of keys) {
    const shaped = shaper.shape(state, landedAt)
    if ('needs' in shaped) {
      needs.push({ identity: state.identity, columns: shaped.needs })
      // Before what others put under these keys; the row itself comes after them, as it stands now.
      for (const key of shaped.removed) removed.push(key)
    } else if ('misfit' in shaped) misfits.push({ identity: state.identity, misfit: shaped.misfit })
    else {
      const { put } = shaped
      if (put && kept && !state.after) kept.set(keyId!(put.key), put)
      else if (put) {
        puts.push(put)
        if (kept) live.add(keyId!(put.key))
      }
      for (const key of shaped.removed) removed.push(key)
    }
  }
  for (const [id, put] of kept ?? []) {
    if (live.has(id)) removed.push(put.key)
    else puts.push(put)
  }
  if (shaper.keyIsIdentity) {
    const effect = {
      ...emptied,
      removed,
      puts,
      ...(fresh && !shaper.keepsDeleted && !shaper.findsRows ? { fresh } : {}),
    }
    return { effect, needs, misfits }
  }
  const byKey = new Map<string, Put[]>()
  for (const put of puts) {
    const text = keyText(put.key)
    const there = byKey.get(text)
    if (there) there.push(put)
    else byKey.set(text, [put])
  }
  const single: Put[] = []
  for (const there of byKey.values()) {
    if (there.length === 1) single.push(there[0]!)
    else for (const { identity } of there) misfits.push({ identity, misfit: meeting(there) })
  }
  const gone = new Map(removed.map(key => [keyText(key), key]))
  for (const text of byKey.keys()) gone.delete(text)
  return { effect: { ...emptied, removed: [...gone.values()], puts: single }, needs, misfits }
}

function meeting(puts: readonly Put[]): Misfit {
  const [first, second] = puts.map(({ identity }) => identity.join(', '))
  return {
    column: 'the key',
    reason: `the rows ${first} and ${second} of the source would both be the row ${puts[0]!.key.join(', ')}`,
  }
}

function emptiedBy(
  { truncate, truncatedAt }: Folded,
  shaper: LaneShaper,
  landedAt: string,
): Pick<NetEffect, 'truncate' | 'markAll'> {
  if (!truncate || !shaper.keepsDeleted) return { truncate }
  const markAll = shaper.mark({ committedAt: truncatedAt ?? null, landedAt })
  return { truncate: false, ...(markAll ? { markAll } : {}) }
}
