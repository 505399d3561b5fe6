/** Sets merge by element: what was added on either side is added, what was removed on either side is removed. */
import { elementsOf, type Value } from './form.ts'
import { meanings, other, type Rule, type Side } from './rule.ts'

export interface SetMerged {
  /** As it is to be; undefined: as it stands. */
  a?: Value
  b?: Value
  /** Elements that wait for a person. */
  held: { side: Side; element: string }[]
}

type SetRule = Extract<Rule, { as: 'set' }>

export class SetMerge {
  private readonly by: Record<Side, Map<string, string[]>>
  private readonly others: SetRule['others']

  constructor({ map = [], others }: SetRule) {
    this.by = { a: meanings(map, 'a'), b: meanings(map, 'b') }
    this.others = others
  }

  /** `base`: as both were agreed last, each in its own words. */
  merge(base: Record<Side, Value>, now: Record<Side, Value>, gives: Record<Side, boolean>): SetMerged {
    const merged: SetMerged = { held: [] }
    const [a, b] = [this.toward('b', base, now, gives, merged), this.toward('a', base, now, gives, merged)]
    if (a) merged.b = a.value
    if (b) merged.a = b.value
    return merged
  }

  /** What the set of that side becomes by the changes of the other. */
  private toward(
    to: Side,
    base: Record<Side, Value>,
    now: Record<Side, Value>,
    gives: Record<Side, boolean>,
    merged: SetMerged,
  ): { value: Value } | undefined {
    const from = other(to)
    if (!gives[from]) return undefined
    const [before, present] = [new Set(elementsOf(base[from])), elementsOf(now[from])]
    const standing = new Set(elementsOf(now[to]))
    // Another element for the same says nothing new.
    const saidBefore = new Set([...before].flatMap(element => this.meansOf(element, from) ?? []))
    const kept = new Set<string>()
    let changed = false
    for (const element of present) {
      const means = this.meansOf(element, from)
      for (const one of means ?? []) kept.add(one)
      if (before.has(element)) continue
      if (!means) {
        if (this.others === 'held') merged.held.push({ side: from, element })
        continue
      }
      if (means.some(one => standing.has(one) || saidBefore.has(one))) continue
      standing.add(means[0]!)
      changed = true
    }
    for (const element of before) {
      if (present.includes(element)) continue
      for (const one of this.meansOf(element, from) ?? [])
        // Another element that is still there may mean the same.
        if (!kept.has(one) && standing.delete(one)) changed = true
    }
    if (!changed) return undefined
    return { value: standing.size === 0 ? null : JSON.stringify([...standing]) }
  }

  /** What means it on the other side; undefined: nothing, and nothing is made there. */
  private meansOf(element: string, from: Side): string[] | undefined {
    return this.by[from].get(element) ?? (this.others === 'made there' ? [element] : undefined)
  }

  /** Whether both say the same of all elements that either may say to the other. */
  agree(now: Record<Side, Value>): boolean {
    const said = { a: new Set(elementsOf(now.a)), b: new Set(elementsOf(now.b)) }
    return (['a', 'b'] as const).every(from =>
      [...said[from]].every(element => {
        const means = this.meansOf(element, from)
        return !means || means.some(one => said[other(from)].has(one))
      }),
    )
  }
}
