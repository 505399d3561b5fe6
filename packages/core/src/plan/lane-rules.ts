import type { Deletes, LaneRule, There } from '../definition/lane-rule.ts'
import { matcherOf, pathOf } from '../naming/pattern.ts'
import type { DatasetName } from '../records/dataset.ts'
import type { PlanInput } from './input.ts'

/** What holds for a lane: what is said of all, but for what a lane rule says of it. */
export interface Ruled {
  deletes: Deletes
  there: There
  history: boolean
  /** Columns of the source; absent: those of its own key. */
  key?: readonly string[]
}

/** The lane rules, and which of them have decided something. */
export class LaneRuling {
  readonly working = new Set<number>()
  private readonly rules: { index: number; does: LaneRule['does']; matches(path: string): boolean }[]
  private readonly all: Ruled

  constructor({
    lanes = [],
    deletes = 'remove',
    there = {},
    history = false,
  }: Pick<PlanInput, 'lanes' | 'deletes' | 'there' | 'history'>) {
    this.rules = lanes.map(({ like, does }, index) => ({ index, does, matches: matcherOf(like) }))
    this.all = { deletes, there, history }
  }

  of({ namespace, name }: DatasetName): Ruled {
    const path = pathOf(namespace, name)
    const ruled: Ruled = { ...this.all, there: { ...this.all.there } }
    for (const { index, does, matches } of this.rules) {
      if (!matches(path)) continue
      this.working.add(index)
      if ('deletes' in does) ruled.deletes = does.deletes
      else if ('key' in does) ruled.key = does.key
      else if ('history' in does) ruled.history = does.history
      else Object.assign(ruled.there, does)
    }
    return ruled
  }
}
