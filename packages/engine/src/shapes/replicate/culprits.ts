/** Which rows of a landing a target will not take, when it has refused them together. */
import type { LaneEffect } from '@tide/connectors/contract/target'
import type { Put } from '@tide/core/apply/net-effect'
import { Failure } from '@tide/core/failure'
import { keyText, type Key } from '@tide/core/records/value'

/** A row that is put, or a key that is removed: one of `effects[effect]`. */
export interface Culprit {
  effect: number
  put?: Put
  removed?: Key
  failure: Failure
}

type Item = Omit<Culprit, 'failure'>

/** Applies the effects and takes them back; returns what the target says of a value or a constraint. */
export type TryOn = (effects: readonly LaneEffect[]) => Promise<Failure | undefined>

/** Beyond so many suspects it is not looked at each whether the others stood in its way. */
const LOOKED_AT = 16

/** A value or a constraint was in the way, not the system. */
export function isRefusal(thrown: unknown): thrown is Failure {
  return thrown instanceof Failure && thrown.kind === 'value'
}

/**
 * Looks for those that are refused by halving what was refused together: about two tries for each halving and culprit.
 * Ends when there are more than `most`. `unsure`: nothing else is known to help, so all suspects count.
 */
export async function findCulprits(
  effects: readonly LaneEffect[],
  tries: TryOn,
  most: number,
  unsure: boolean,
): Promise<Culprit[]> {
  const removals = effects.flatMap(({ effect: { removed } }, effect): Item[] =>
    removed.map(key => ({ effect, removed: key })),
  )
  const puts = effects.flatMap(({ effect: { puts } }, effect): Item[] => puts.map(put => ({ effect, put })))
  const with_ = (items: readonly Item[]) => withOnly(effects, items)
  const found: Culprit[] = []
  const search = async (items: readonly Item[], beside: readonly Item[]): Promise<void> => {
    if (items.length === 0 || found.length > most) return
    const failure = await tries(with_([...beside, ...items]))
    if (!failure) return
    if (items.length === 1) return void found.push({ ...items[0]!, failure })
    const half = items.length >> 1
    await search(items.slice(0, half), beside)
    await search(items.slice(half), beside)
  }
  await search(removals, [])
  if (found.length > 0) return found
  await search(puts, removals)
  if (unsure || found.length > LOOKED_AT) return found
  const guilty: Culprit[] = []
  for (const one of found) {
    // Rows that trade a unique value do so together; without the others, and without what they were before, it goes in.
    const others = puts.filter(({ effect, put }) => effect === one.effect && put !== one.put)
    const away = others.map(({ effect, put }): Item => ({ effect, removed: put!.key }))
    const failure = await tries(with_([...removals, ...away, { effect: one.effect, put: one.put! }]))
    if (failure) guilty.push(one)
  }
  return guilty
}

/** The effects with no other rows than these. */
export function withOnly(effects: readonly LaneEffect[], items: readonly Item[]): LaneEffect[] {
  const left = effects.map(({ lane, effect: { truncate, markAll } }) => ({
    lane,
    effect: { truncate, ...(markAll ? { markAll } : {}), removed: [] as Key[], puts: [] as Put[] },
  }))
  for (const { effect, put, removed } of items) {
    if (put) left[effect]!.effect.puts.push(put)
    if (removed) left[effect]!.effect.removed.push(removed)
  }
  return left.filter(
    ({ effect }) => effect.truncate || effect.markAll || effect.removed.length > 0 || effect.puts.length > 0,
  )
}

/** The effects without these rows. */
export function without(effects: readonly LaneEffect[], culprits: readonly Culprit[]): LaneEffect[] {
  return effects.map(({ lane, effect }, i) => {
    const own = culprits.filter(culprit => culprit.effect === i)
    if (own.length === 0) return { lane, effect }
    const puts = new Set(own.flatMap(({ put }) => put ?? []))
    const removed = new Set(own.flatMap(({ removed }) => (removed ? keyText(removed) : [])))
    const { truncate, markAll } = effect
    return {
      lane,
      effect: {
        truncate,
        ...(markAll ? { markAll } : {}),
        puts: effect.puts.filter(put => !puts.has(put)),
        removed: effect.removed.filter(key => !removed.has(keyText(key))),
      },
    }
  })
}
