/** Finds which records of two sides are the same, by rules in their order; only what meets exactly one is taken, the rest is for a person. */
import type { Side } from '../merge/rule.ts'
import { madeAlike } from './alike.ts'
import { nearOf, type Near } from './near.ts'
import type { PairingRecord, PairingRule } from './rule.ts'

export interface PairedUp {
  /** `rule`: the place of the one by which they are the same. */
  pairs: { a: string; b: string; rule: number }[]
  /** Several on one side or on both are the same by that rule. */
  doubles: { rule: number; by: string[]; a: string[]; b: string[] }[]
  /** Almost the same by a rule, of what is left. */
  near: Near[]
  /** What is left, doubles and near ones among them. */
  left: Record<Side, string[]>
}

interface Group {
  by: string[]
  a: PairingRecord[]
  b: PairingRecord[]
}

/** In an order that does not depend on that of the records. */
export function pairUp(
  records: Record<Side, readonly PairingRecord[]>,
  rules: readonly PairingRule[],
): PairedUp {
  const paired: Record<Side, Set<string>> = { a: new Set(), b: new Set() }
  const pairs: PairedUp['pairs'] = []
  const doubles: (PairedUp['doubles'][number] & { key: string })[] = []
  /** By record: the doubles that it is one of. Such a one is paired with another of them, and with nobody else. */
  const among: Record<Side, Map<string, string>> = { a: new Map(), b: new Map() }
  for (const [place, rule] of rules.entries()) {
    const groups = new Map<string, Group>()
    for (const side of ['a', 'b'] as const)
      for (const record of records[side]) {
        if (paired[side].has(record.id)) continue
        const by = keyOf(record, rule, side)
        if (!by) continue
        const key = JSON.stringify([among[side].get(record.id) ?? null, by])
        let group = groups.get(key)
        if (!group) groups.set(key, (group = { by, a: [], b: [] }))
        group[side].push(record)
      }
    for (const [key, { by, a, b }] of groups) {
      if (a.length === 0 || b.length === 0) continue
      if (a.length === 1 && b.length === 1) {
        pairs.push({ a: a[0]!.id, b: b[0]!.id, rule: place })
        paired.a.add(a[0]!.id)
        paired.b.add(b[0]!.id)
        continue
      }
      for (const record of a) among.a.set(record.id, key)
      for (const record of b) among.b.set(record.id, key)
      doubles.push({ key, rule: place, by, a: idsOf(a), b: idsOf(b) })
    }
  }
  const isLeft = (side: Side) => (id: string) => !paired[side].has(id)
  const left = {
    a: idsOf(records.a).filter(isLeft('a')),
    b: idsOf(records.b).filter(isLeft('b')),
  }
  // What a later rule has told apart is no double any more.
  const open = doubles
    .map(({ rule, by, a, b }) => ({ rule, by, a: a.filter(isLeft('a')), b: b.filter(isLeft('b')) }))
    .filter(({ a, b }) => a.length > 0 && b.length > 0)
  const alone = (side: Side) =>
    records[side].filter(({ id }) => !paired[side].has(id) && !among[side].has(id))
  return {
    pairs: pairs.sort((x, y) => x.rule - y.rule || compare(x.a, y.a)),
    doubles: open.sort(
      (x, y) =>
        x.rule - y.rule ||
        compare(JSON.stringify(x.by), JSON.stringify(y.by)) ||
        // Doubles of an earlier rule can be the same by a later one, each among themselves.
        compare(x.a[0]!, y.a[0]!),
    ),
    near: nearOf({ a: alone('a'), b: alone('b') }, rules),
    left,
  }
}

/** undefined: a part of it is missing, and what is missing on both sides makes nothing the same. */
export function keyOf(record: PairingRecord, { fields }: PairingRule, side: Side): string[] | undefined {
  const parts = fields.map(field => madeAlike(record.fieldOf(field[side]), field.alike))
  return fields.length === 0 || parts.includes(null) ? undefined : (parts as string[])
}

function idsOf(records: readonly PairingRecord[]): string[] {
  return records.map(({ id }) => id).sort(compare)
}

function compare(a: string, b: string): number {
  return a < b ? -1 : a > b ? 1 : 0
}
