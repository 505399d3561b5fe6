/** How a value of one side is said on the other. */
import { templateParts } from '../send/template.ts'
import type { Form, Value } from './form.ts'

export type Side = 'a' | 'b'

export const other = (side: Side): Side => (side === 'a' ? 'b' : 'a')

/** Values that mean the same. Several may mean one; of these the `first` is taken where nothing says which. */
export interface ValueMap {
  pairs: { a: string; b: string; first?: true }[]
  /** What becomes of others: they are said as they are, held for a person, or become one value. */
  others: 'as they are' | 'held' | { a: string; b: string }
}

/** Text that is put before and behind on one side, made of fields of the other: `{field}` stands for a value. */
export interface Affix {
  on: Side
  before: string
  behind: string
}

export type Rule =
  | { as: 'it is' }
  | { as: 'mapped'; map: ValueMap }
  | { as: 'affixed'; affix: Affix }
  /** What is said of whoever said it stands before it, where it was not said: of a record that started on A the text `a`, which names its fields. */
  | { as: 'attributed'; a: string; b: string }
  /** Elements that the map does not know, or the other side does not have. */
  | { as: 'set'; map?: ValueMap['pairs']; others: 'made there' | 'left' | 'held' }
  /** Another record or a person: by what others know of them. */
  | { as: 'found' }

/** Where a value leads on the other side: to one, to none that is known yet, or to none for a reason. */
export type Found = { is: string } | 'not yet' | { held: string }

export type Said = { is: Value } | 'not yet' | { held: string }

/** What a translation may look at. */
export interface Context {
  /** A field of the record on that side, as people read it. */
  wordsOf(side: Side, field: string): Value
  /** Where the record started. */
  origin: Side
  /** For references and people. */
  find(value: string, from: Side): Found
  /** What stands on the side to which it is said. */
  standing: Value
}

export type Say = (value: Value, from: Side, context: Context) => Said

/** Throws for a rule that a plan should have refused. */
export function sayer(rule: Rule, forms: Record<Side, Form>): Say {
  switch (rule.as) {
    case 'it is':
      return (value, from, { standing }) => ({ is: asItIs(value, forms[from], forms[other(from)], standing) })
    case 'mapped':
      return mapped(rule.map)
    case 'affixed':
      return affixed(rule.affix)
    case 'attributed': {
      const by = {
        a: affixed({ on: 'b', before: rule.a, behind: '' }),
        b: affixed({ on: 'a', before: rule.b, behind: '' }),
      }
      return (value, from, context) => by[context.origin](value, from, context)
    }
    case 'found':
      return (value, from, { find }) => (value === null || value === '' ? { is: null } : find(value, from))
    case 'set':
      throw new Error('sets are said element by element')
  }
}

/** Of text that is put before and behind: the side that is without. */
export function plainSide(rule: Rule, origin: Side): Side | undefined {
  if (rule.as === 'attributed') return origin
  return rule.as === 'affixed' ? other(rule.affix.on) : undefined
}

/** A day and a moment of it say the same; a moment that stands there keeps its time. */
function asItIs(value: Value, from: Form, to: Form, standing: Value): Value {
  if (value === null) return null
  if (from.kind === 'moment' && to.kind === 'date') return value.slice(0, 10)
  if (from.kind === 'date' && to.kind === 'moment')
    return standing?.slice(0, 10) === value ? standing : `${value}T00:00:00Z`
  return value
}

/** By value of a side: those of the other that mean it, the one to be taken first in front. */
export function meanings(pairs: ValueMap['pairs'], from: Side): Map<string, string[]> {
  const found = new Map<string, string[]>()
  for (const pair of pairs) {
    const there = found.get(pair[from])
    if (!there) found.set(pair[from], [pair[other(from)]])
    else if (pair.first) there.unshift(pair[other(from)])
    else there.push(pair[other(from)])
  }
  return found
}

function mapped({ pairs, others }: ValueMap): Say {
  const by = { a: meanings(pairs, 'a'), b: meanings(pairs, 'b') }
  return (value, from, { standing }) => {
    if (value === null) return { is: null }
    const means = by[from].get(value)
    if (means) return { is: standing !== null && means.includes(standing) ? standing : means[0]! }
    if (others === 'as they are') return { is: value }
    if (others === 'held') return { held: `“${value}” means nothing on the other side.` }
    return { is: others[other(from)] }
  }
}

function affixed({ on, before, behind }: Affix): Say {
  const [head, tail] = [templateParts(before), templateParts(behind)]
  if (!head || !tail) throw new Error('a template that the plan should have refused')
  const plain = other(on)
  return (value, from, { wordsOf, standing }) => {
    const filled = (parts: NonNullable<typeof head>) => {
      const values = parts.map(part => ('text' in part ? part.text : wordsOf(plain, part.column)))
      // Before the other record is there nothing can be made of its fields.
      return values.includes(null) ? '' : values.join('')
    }
    if (value === null) return { is: null }
    const [prefix, suffix] = [filled(head), filled(tail)]
    if (from === plain) return { is: prefix + value + suffix }
    return { is: without(without(value, prefix, standing, 'before'), suffix, standing, 'behind') }
  }
}

/** Takes the text off where it was put; where a person has written around it, wherever it stands. `plain`: what it was put to. */
function without(text: string, affix: string, plain: Value, where: 'before' | 'behind'): string {
  if (affix === '') return text
  if (where === 'before' && text.startsWith(affix)) return text.slice(affix.length)
  if (where === 'behind' && text.endsWith(affix)) return text.slice(0, -affix.length)
  const bare = affix.trim()
  if (bare === '' || times(text, bare) <= times(plain ?? '', bare)) return text
  const at = where === 'before' ? text.indexOf(bare) : text.lastIndexOf(bare)
  const [left, right] = [text.slice(0, at), text.slice(at + bare.length)]
  return left.trim() === '' ? right.trimStart() : left.trimEnd() + (right.trim() === '' ? '' : right)
}

function times(text: string, part: string): number {
  return text.split(part).length - 1
}
