/** The fewest naming rules under which the target takes every chosen name, and no two of them meet. */
import type { Dataset } from '../records/dataset.ts'
import { Namer, type Named } from './namer.ts'
import { namesOf, type ShownName } from './names.ts'
import { exactPattern } from './pattern.ts'
import type { NamingProfile } from './profile.ts'
import type { NamingDeed, NamingRule } from './rule.ts'

export interface NamingTarget {
  naming: NamingProfile
  nameKey(name: string): string
}

/** In the order in which they are applied. Each is proposed only where a name would not fit without. */
function candidates({ allowed }: NamingProfile): NamingDeed[] {
  const forWords: NamingDeed[] = [
    { make: 'plain letters' },
    { find: '[^A-Za-z0-9_]+', by: '_' },
    { find: '^([0-9])', by: '_$1' },
  ]
  const forEarlyUnicode: NamingDeed[] = [
    { find: '[\\x{10000}-\\x{10FFFF}]', by: '_' },
    { find: ' +$', by: '' },
  ]
  return [
    ...(allowed === 'word' ? forWords : allowed === 'bmp' ? forEarlyUnicode : []),
    { find: '^$', by: '_' },
    { shorten: 'to fit' },
  ]
}

/**
 * The present rules, and what is still missing after them. `datasets`: the chosen tables. What no rule can help stays as it
 * is, and is refused by the plan.
 */
export function proposeRules(
  datasets: readonly Dataset[],
  present: readonly NamingRule[],
  targetSchema: string,
  target: NamingTarget,
): NamingRule[] {
  const rules = [...present]
  const now = () => namesOf(datasets, new Namer(rules, target.naming, targetSchema), target)
  let left: Pick<ShownName, 'kind' | 'path' | 'name'>[] = now().filter(
    ({ refused, kind }) => refused && !(kind === 'schemas' && targetSchema !== ''),
  )
  for (const does of candidates(target.naming)) {
    if (left.length === 0) break
    const rule: NamingRule = { names: 'all', does }
    const alone = new Namer([rule], target.naming, '')
    // What is left is tried by its name so far, so that a rule is taken only where it changes one of them.
    if (!left.some(({ name }) => alone.table({ namespace: '', name }).by.length > 0)) continue
    rules.push(rule)
    // None of these rules changes a name that fits.
    const namer = new Namer(rules, target.naming, targetSchema)
    left = left
      .map(({ kind, path }) => ({ kind, path, ...namedBy(namer, kind, path) }))
      .filter(({ refused }) => refused)
  }
  return apart(rules, now(), datasets, targetSchema, target)
}

function namedBy(namer: Namer, kind: ShownName['kind'], path: readonly string[]): Named {
  const [namespace = '', name = '', column = ''] = path
  const table = { namespace, name }
  if (kind === 'schemas') return namer.schema(table)
  return kind === 'tables' ? namer.table(table) : namer.column(table, column)
}

/** Where two names meet, the later ones get a number each, by rules for them alone. */
function apart(
  rules: NamingRule[],
  names: ShownName[],
  datasets: readonly Dataset[],
  targetSchema: string,
  target: NamingTarget,
): NamingRule[] {
  const extra: NamingRule[] = []
  const shorten: NamingRule = { names: 'all', does: { shorten: 'to fit' } }
  const within = ({ scope, key }: Pick<ShownName, 'scope' | 'key'>) => `${scope}\n${key}`
  // Only where names meet it matters which ones are taken.
  const crowded = new Set(names.flatMap(({ scope, meets }) => (meets ? [scope] : [])))
  const taken = new Set(names.flatMap(one => (crowded.has(one.scope) ? [within(one)] : [])))
  for (const { kind, path, name, scope, meets } of names) {
    if (!meets || kind === 'schemas') continue
    const like = exactPattern(...path)
    for (let number = 2; ; number++) {
      const does: NamingDeed = { call: `${name}_${number}` }
      const rule: NamingRule = { names: kind, like, does }
      const namer = new Namer([rule, shorten], target.naming, targetSchema)
      const named = namedBy(namer, kind, path)
      const key = within({ scope, key: target.nameKey(named.name) })
      if (taken.has(key) && number < datasets.length + 1000) continue
      taken.add(key)
      extra.push({ ...rule, does: { call: named.name } })
      break
    }
  }
  return [...rules, ...extra]
}
