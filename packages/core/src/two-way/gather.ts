/** Which pairs a pass of a lane is about: known ones whose records have changed, records that are new, and who of these is who. */
import { pairUp } from '../pairing/pair-up.ts'
import { other, type Side } from '../merge/rule.ts'
import { originates, SIDES, type CompiledLane } from './lane.ts'
import type { Half, HeldField, Pair } from './pair.ts'

export interface Gathered {
  /** Known and new ones, with their records as they are now. */
  pairs: Pair[]
  /** Ids of pairs that are over: of records that left before they had another half. */
  over: string[]
  /** Ids of pairs that were found just now to have both halves. */
  linked: string[]
}

export interface Gathering {
  /** Records of each side that may have changed, by key. */
  records: Record<Side, ReadonlyMap<string, Half>>
  /** Pairs that these are of, and those that wait. */
  known: readonly Pair[]
  /** Records that take no part so far, each as a pair without another half. */
  strangers: readonly Pair[]
  now: string
  newId: () => string
}

export function gather(lane: CompiledLane, { records, known, strangers, now, newId }: Gathering): Gathered {
  const gathered: Gathered = { pairs: [], over: [], linked: [] }
  const taken: Record<Side, Set<string>> = { a: new Set(), b: new Set() }
  for (const pair of known) {
    if (pair.state === 'stranger') continue
    const halves = { ...pair.halves }
    for (const side of SIDES) {
      const half = halves[side]
      if (!half) continue
      taken[side].add(half.id)
      halves[side] = records[side].get(half.id) ?? half
    }
    const seen: Pair = { ...pair, halves }
    if (pair.state === 'apart') {
      gathered.pairs.push(seen)
      continue
    }
    const half = halves[pair.origin]
    // Whose first half is gone is settled by what becomes of deleted records.
    const takesPart = !half || lane.inScope(pair.origin, half, now)
    const alone = !halves.a || !halves.b
    if (alone && !takesPart) gathered.over.push(pair.id)
    else gathered.pairs.push({ ...seen, state: takesPart ? 'in step' : 'asleep' })
  }
  const freshOf = (side: Side) => [...records[side].values()].filter(({ id }) => !taken[side].has(id))
  const fresh = { a: freshOf('a'), b: freshOf('b') }
  const isIn = {
    a: new Set(fresh.a.filter(half => lane.inScope('a', half, now)).map(({ id }) => id)),
    b: new Set(fresh.b.filter(half => lane.inScope('b', half, now)).map(({ id }) => id)),
  }
  const rules = lane.lane.pair ?? []
  // What is alone among the known ones may be one of those that are new.
  const alone = gathered.pairs.filter(({ halves, state }) => state === 'in step' && !(halves.a && halves.b))
  const standing = new Strangers(strangers)
  const asked = (side: Side) => {
    const before = standing.halves(side).filter(({ id }) => !records[side].has(id) && !taken[side].has(id))
    const halves = [...fresh[side], ...alone.flatMap(({ halves }) => halves[side] ?? []), ...before]
    return halves.map(half => ({ id: half.id, fieldOf: (field: string) => half.record[field] ?? null }))
  }
  const found =
    rules.length > 0 ? pairUp({ a: asked('a'), b: asked('b') }, rules) : { pairs: [], doubles: [], near: [] }
  const paired: Record<Side, Set<string>> = { a: new Set(), b: new Set() }
  const halfOf = (side: Side, id: string) =>
    records[side].get(id) ??
    alone.find(({ halves }) => halves[side]?.id === id)?.halves[side] ??
    standing.half(side, id)
  for (const { a, b } of found.pairs) {
    const origin = isIn.a.has(a) || !isIn.b.has(b) ? 'a' : 'b'
    const before = alone.filter(({ halves }) => halves.a?.id === a || halves.b?.id === b)
    // A person has said of one of them that it is none of the others.
    if (!(isIn.a.has(a) || isIn.b.has(b) || before.length > 0) || before.some(pair => pair.alone)) continue
    const id = newId()
    gathered.pairs = gathered.pairs.filter(pair => !before.includes(pair))
    gathered.over.push(...before.map(pair => pair.id))
    gathered.pairs.push(
      madePair({ id, lane: lane.name, origin, halves: { a: halfOf('a', a), b: halfOf('b', b) } }),
    )
    gathered.linked.push(id)
    paired.a.add(a)
    paired.b.add(b)
  }
  for (const side of SIDES) {
    for (const id of paired[side]) gathered.over.push(...standing.rowOf(side, id))
    for (const half of fresh[side]) {
      if (paired[side].has(half.id)) continue
      const [row] = standing.rowOf(side, half.id)
      if (!originates(lane.lane, side) || !isIn[side].has(half.id)) {
        const halves = { a: null, b: null, [side]: half }
        // Without rules nothing is ever found to be the same.
        if (rules.length > 0)
          gathered.pairs.push({
            ...madePair({ id: row ?? newId(), lane: lane.name, origin: side, halves }),
            state: 'stranger',
          })
        continue
      }
      if (row !== undefined) gathered.over.push(row)
      const held = doubtOf(lane, found, side, half.id)
      const halves = { a: null, b: null, [side]: half }
      gathered.pairs.push({
        ...madePair({ id: newId(), lane: lane.name, origin: side, halves }),
        held: held ? [held] : [],
      })
    }
  }
  return gathered
}

class Strangers {
  /** By side and key. */
  private readonly by: Record<Side, Map<string, Pair>> = { a: new Map(), b: new Map() }

  constructor(pairs: readonly Pair[]) {
    for (const pair of pairs)
      for (const side of SIDES) if (pair.halves[side]) this.by[side].set(pair.halves[side].id, pair)
  }

  halves(side: Side): Half[] {
    return [...this.by[side].values()].map(({ halves }) => halves[side]!)
  }

  half(side: Side, id: string): Half {
    return this.by[side].get(id)!.halves[side]!
  }

  /** The id under which a record is kept. */
  rowOf(side: Side, id: string): string[] {
    const pair = this.by[side].get(id)
    return pair ? [pair.id] : []
  }
}

function madePair(made: Pick<Pair, 'id' | 'lane' | 'origin' | 'halves'>): Pair {
  return { ...made, base: {}, state: 'in step', held: [], alone: false, waits: false }
}

function doubtOf(
  lane: CompiledLane,
  { doubles, near }: Pick<ReturnType<typeof pairUp>, 'doubles' | 'near'>,
  side: Side,
  id: string,
): HeldField | undefined {
  const double = doubles.find(one => one[side].includes(id))
  const close = near.filter(one => one[side] === id)
  const others = double ? double[other(side)] : close.map(one => one[other(side)])
  if (others.length === 0) return undefined
  const { title } = lane.objects[other(side)]
  return {
    join: null,
    why: 'may be the same',
    side: null,
    reason: double
      ? `Several records are the same by ${double.by.map(one => `“${one}”`).join(', ')}.`
      : `It is almost the same as ${others.length === 1 ? `one of ${title}` : `${others.length} of ${title}`}.`,
    remedy: 'Say which it is, or that it is none of them.',
    others,
  }
}
