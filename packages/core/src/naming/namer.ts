/** From source names to target names, by an ordered list of rules and what the target does and takes. */
import { sha256 } from '@noble/hashes/sha2.js'
import { bytesToHex, utf8ToBytes } from '@noble/hashes/utils.js'
import anyAscii from 'any-ascii'
import { RE2JS } from 're2js'
import type { DatasetName } from '../records/dataset.ts'
import { matcherOf, pathOf } from './pattern.ts'
import { plainExpression } from './plain-expression.ts'
import { fitName, fitsLength, foldName, type NamingProfile } from './profile.ts'
import type { NamingDeed, NamingRule } from './rule.ts'

/** What became of a name. */
export interface Named {
  name: string
  /** Indexes of the rules that changed it. */
  by: number[]
  /** Why the target will not take it. */
  refused?: string
}

/** A rule that cannot be followed. */
export interface RuleFault {
  rule: number
  message: string
  remedy: string
}

interface Rule {
  index: number
  names: NamingRule['names']
  matches(path: string): boolean
  deed: NamingDeed
  apply(name: string, path: string): string
}

/** The outcome of a name depends on the name, the rules and the target only, never on what other names there are. */
export class Namer {
  readonly faults: RuleFault[] = []
  private readonly rules: Rule[] = []
  private readonly profile: NamingProfile
  /** Takes all the tables; empty: each goes into a schema named after its own. */
  private readonly targetSchema: string
  /** Outcomes by the name alone, where no rule looks at where a name is: columns are called the same in many tables. */
  private readonly known: Record<NamingRule['names'], Map<string, Named>> | undefined

  constructor(rules: readonly NamingRule[], profile: NamingProfile, targetSchema: string) {
    this.profile = profile
    this.targetSchema = targetSchema
    rules.forEach(({ names, like, does }, index) => {
      const made = deedOf(does, names, like, profile)
      if ('message' in made) {
        this.faults.push({ rule: index, ...made })
        return
      }
      const matches = like === undefined ? () => true : matcherOf(like)
      this.rules.push({ index, names, matches, deed: does, apply: made.apply })
    })
    if (rules.every(({ like }) => like === undefined))
      this.known = { all: new Map(), schemas: new Map(), tables: new Map(), columns: new Map() }
  }

  /** The schema that a table goes into. */
  schema({ namespace, name }: DatasetName): Named {
    const given = this.rules.findLast(
      ({ deed, matches }) => 'schema' in deed && matches(pathOf(namespace, name)),
    )
    if (given && 'schema' in given.deed) return this.fitted(given.deed.schema, [given.index])
    if (this.targetSchema !== '') return this.fitted(this.targetSchema, [])
    return this.named('schemas', namespace, pathOf(namespace))
  }

  table({ namespace, name }: DatasetName): Named {
    return this.named('tables', name, pathOf(namespace, name))
  }

  column({ namespace, name }: DatasetName, column: string): Named {
    return this.named('columns', column, pathOf(namespace, name, column))
  }

  /** A name that is given, not made from one at the source. */
  given(name: string): Named {
    return this.fitted(name, [])
  }

  private named(kind: NamingRule['names'], source: string, path: string): Named {
    const known = this.known?.[kind].get(source)
    if (known) return known
    const by: number[] = []
    let [name, byPath] = [source, false]
    for (const rule of this.rules) {
      if ((rule.names !== 'all' && rule.names !== kind) || !rule.matches(path)) continue
      const next = rule.apply(name, path)
      if (next === name) continue
      by.push(rule.index)
      byPath ||= 'shorten' in rule.deed
      name = next
    }
    const named = this.fitted(name, by)
    if (!byPath) this.known?.[kind].set(source, named)
    return named
  }

  private fitted(name: string, by: number[]): Named {
    const fitted = fitName(name, this.profile)
    return 'refused' in fitted ? { ...fitted, by } : { name: fitted.name, by }
  }
}

type Made = Pick<Rule, 'apply'> | Omit<RuleFault, 'rule'>

function deedOf(
  deed: NamingDeed,
  names: NamingRule['names'],
  like: string | undefined,
  profile: NamingProfile,
): Made {
  if ('make' in deed) {
    if (deed.make === 'plain letters') return { apply: plainLetters }
    return { apply: deed.make === 'upper case' ? one => one.toUpperCase() : one => one.toLowerCase() }
  }
  if ('replace' in deed) return { apply: name => name.replaceAll(deed.replace, () => deed.by) }
  if ('find' in deed) return finding(deed.find, deed.by)
  if ('prefix' in deed) return { apply: name => deed.prefix + name }
  if ('suffix' in deed) return { apply: name => name + deed.suffix }
  if ('shorten' in deed) {
    const limits =
      deed.shorten === 'to fit'
        ? profile
        : { ...profile, maxLength: Math.min(deed.shorten, profile.maxLength) }
    return { apply: (name, path) => shortened(name, path, limits) }
  }
  if ('schema' in deed) {
    if (names === 'tables') return { apply: name => name }
    return { message: 'Only tables go into a schema.', remedy: 'Let the rule be about tables.' }
  }
  if (like === undefined)
    return {
      message: 'One name for all of them makes them meet.',
      remedy: 'Say by a pattern which one is meant.',
    }
  return { apply: () => deed.call }
}

/** An expression takes as many steps for each letter at most. */
const MOST_STEPS = 200

function finding(expression: string, by: string): Made {
  let compiled: RE2JS
  try {
    compiled = RE2JS.compile(expression)
  } catch (error) {
    return {
      message: `${expression} is no regular expression: ${(error as Error).message}.`,
      remedy: 'Write it as RE2 takes it: without looking ahead, and without groups named again.',
    }
  }
  if (compiled.programSize() > MOST_STEPS) {
    return {
      message: `${expression} repeats so much that it would take too long for many names.`,
      remedy: 'Let it repeat less often, or without a number.',
    }
  }
  const groups = compiled.groupCount()
  const missing = [...by.matchAll(/\$(\d+)/g)].find(([, group]) => Number(group) > groups)
  if (missing) {
    return {
      message: `${expression} has no group ${missing[1]}.`,
      remedy: 'Put what is to be kept in parentheses, or write $$ for a dollar sign.',
    }
  }
  const plain = plainExpression(expression)
  if (plain) return { apply: name => name.replace(plain, by) }
  return {
    apply: name => {
      const matcher = compiled.matcher(name)
      return matcher.find() ? matcher.replaceAll(by) : name
    },
  }
}

function plainLetters(name: string): string {
  return /^[\u0000-\u007f]*$/.test(name) ? name : anyAscii(name)
}

/** As many letters of the digest as keep a million names apart with a chance of one in two thousand. */
const DIGEST_LETTERS = 10

function shortened(name: string, path: string, limits: NamingProfile): string {
  const folded = foldName(name, limits)
  if (fitsLength(folded, limits)) return name
  const suffix = `_${bytesToHex(sha256(utf8ToBytes(path))).slice(0, DIGEST_LETTERS)}`
  const letters = [...folded]
  let kept = Math.min(letters.length, limits.maxLength - suffix.length)
  const cut = () => foldName(letters.slice(0, kept).join('') + suffix, limits)
  while (kept > 0 && !fitsLength(cut(), limits)) kept--
  return cut()
}
