/** Lanes, field pairs and their rules in words. */
import type { TwoWayJoin, TwoWayLane } from '@tide/core/definition/two-way'
import { joinName } from '@tide/core/two-way/pair'

export interface Called {
  a: string
  b: string
}

export function directionSaid({ direction }: Pick<TwoWayJoin, 'direction'>, { a, b }: Called): string {
  if (direction === 'both') return 'both ways'
  return direction === 'a to b' ? `to ${b} only` : `to ${a} only`
}

/** undefined: values are said as they are. */
export function ruleSaid({ rule }: TwoWayJoin, called: Called): string | undefined {
  if (!rule) return undefined
  if (rule.as === 'mapped') {
    const { pairs } = rule.map
    return `${new Set(pairs.map(({ a }) => a)).size} values to ${new Set(pairs.map(({ b }) => b)).size}`
  }
  if (rule.as === 'set') return 'as a set'
  if (rule.as === 'attributed') return 'who said it stands before it on the other side'
  const { on, before, behind } = rule.affix
  const parts = [before && `“${before}” before it`, behind && `“${behind}” behind it`].filter(Boolean)
  return `${parts.join(', ') || 'nothing around it'} in ${called[on]}, taken off again`
}

export function originationSaid({ originate }: Pick<TwoWayLane, 'originate'>, { a, b }: Called): string {
  if (originate === 'both') return `new ones start in ${a} and in ${b}`
  if (originate === 'neither') return 'only what is paired already'
  return `new ones start in ${originate === 'a' ? a : b}`
}

export { joinName }

/** Null is nothing; a set is a list of its elements. */
export function valueSaid(value: string | null): string {
  if (value === null || value === '' || value === '[]') return 'nothing'
  if (value.startsWith('["')) {
    try {
      return (JSON.parse(value) as string[]).join(', ')
    } catch {
      return value
    }
  }
  return value
}
