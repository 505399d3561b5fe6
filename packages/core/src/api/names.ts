import type { ShownName } from '../naming/names.ts'
import type { NamingRule } from '../naming/rule.ts'

/** Which names are asked for: all, those a rule changes, those the target will not take, those that meet another. */
export type NameFilter = 'all' | 'changed' | 'refused' | 'meeting'

export interface NamesAnswer {
  counts: Record<NameFilter, number>
  /** By rule, how many names it changes. */
  byRule: number[]
  /** How many are as was asked for; `names` holds the first of them. */
  found: number
  names: Omit<ShownName, 'scope' | 'key'>[]
}

export interface NamesProposal {
  /** The present rules, and those that were missing. */
  names: NamingRule[]
  /** How many of the names then still do not fit, or meet. */
  left: number
}
