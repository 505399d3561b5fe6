/** What the first pass over each lane would do, on the records as they are now; nothing is written, not even what is agreed. */
import type { LaneForeseen, TwoWayForeseen, TwoWayRow } from '@tide/core/api/two-way'
import { EVERY_SECONDS, SWEEP_MINUTES, type TwoWayDefinition } from '@tide/core/definition/two-way'
import { other, type Side } from '@tide/core/merge/rule'
import { decidePair, type PairDecided } from '@tide/core/two-way/decide'
import { gather, type Gathered } from '@tide/core/two-way/gather'
import { SIDES, type CompiledLane } from '@tide/core/two-way/lane'
import { lossesOf } from '@tide/core/two-way/losses'
import { joinName, type Half, type Pair } from '@tide/core/two-way/pair'
import { readAll } from './intake.ts'
import type { Places } from './places.ts'
import { References, type PairLookup } from './references.ts'

interface Rehearsing {
  places: Places
  definition: TwoWayDefinition
  /** What is paired already. */
  pairs: PairLookup
  now: number
  signal: AbortSignal
  /** So many rows of each kind. */
  each: number
}

const DAY_MS = 86_400_000
const PACE_DAYS = 30

export async function rehearse(asked: Rehearsing): Promise<TwoWayForeseen> {
  const { places, definition, now } = asked
  const began = performance.now()
  const lanes: LaneForeseen[] = []
  const virtual = new VirtualPairs(asked.pairs)
  let [recent, knows] = [0, true]
  const looking = { a: 0, b: 0 }
  const sweeping = { a: 0, b: 0 }
  const perDay = 86_400 / (definition.every ?? EVERY_SECONDS)
  const sweeps = 1440 / (definition.sweep ?? SWEEP_MINUTES)
  for (const lane of places.lanes) {
    const { foreseen, gathered, records } = await rehearseLane(asked, lane, virtual)
    lanes.push(foreseen)
    for (const side of SIDES) {
      const pages = Math.max(1, Math.ceil(records[side].size / PAGE))
      // Where an app tells no changes, all of them are read each time.
      looking[side] += perDay * (lane.objects[side].changed === null ? pages : 1)
      sweeping[side] += sweeps * pages
    }
    for (const { halves, origin, state } of gathered.pairs) {
      const { created } = lane.objects[origin]
      if (created === null) knows = false
      const at = created === null ? NaN : Date.parse(halves[origin]?.record[created] ?? '')
      if (state === 'in step' && at > now - PACE_DAYS * DAY_MS) recent++
    }
  }
  const taking = lanes.reduce((sum, { takingPart }) => sum + takingPart, 0)
  const callsOf = (side: Side) => {
    const { perMinute, countsCalls } = places.apps[side]
    if (!countsCalls) return null
    const limit = perMinute === null ? null : perMinute * 1440
    return { looking: Math.round(looking[side]), sweeping: Math.round(sweeping[side]), limit }
  }
  return {
    lanes,
    records: { now: taking, later: knows ? taking + recent : null },
    callsADay: { a: callsOf('a'), b: callsOf('b') },
    seconds: (performance.now() - began) / 1000,
  }
}

/** Records on a page of a list, where nothing else is known. */
const PAGE = 100

async function rehearseLane(
  { places, pairs, now, signal, each }: Rehearsing,
  lane: CompiledLane,
  virtual: VirtualPairs,
): Promise<{ foreseen: LaneForeseen; gathered: Gathered; records: Record<Side, Map<string, Half>> }> {
  const { apps } = places
  const [a, b] = await Promise.all(SIDES.map(side => readAll(apps[side], lane, side, signal)))
  const records = { a: a!, b: b! }
  const known = new Map<string, Pair>()
  for (const side of SIDES)
    for (const pair of await pairs.find(lane.name, side, [...records[side].keys()])) known.set(pair.id, pair)
  let made = 0
  const at = new Date(now).toISOString()
  // Of every record it is known anew whether it takes part.
  const gathering = {
    records,
    known: [...known.values()],
    strangers: [],
    now: at,
    newId: () => `new ${++made}`,
  }
  const gathered = gather(lane, gathering)
  virtual.add(lane.name, gathered.pairs)
  const find = await new References(apps, virtual, signal).of(lane, gathered.pairs)
  const linked = new Set(gathered.linked)
  const foreseen = emptyOf(lane, records)
  const shown = new Map<TwoWayRow['does'], number>()
  const losses = countedLosses(lane, foreseen)
  const reasons = new Map<string, LaneForeseen['reasons'][number]>()
  for (const side of SIDES)
    foreseen.inScope[side] = [...records[side].values()].filter(half => lane.inScope(side, half, at)).length
  for (const pair of gathered.pairs) {
    if (pair.state === 'apart' || pair.state === 'stranger') continue
    if (pair.state === 'in step') {
      foreseen.takingPart++
      losses(pair)
    }
    if (pair.halves.a && pair.halves.b) foreseen.paired++
    const isAsked = pair.held.some(({ why }) => why === 'may be the same' || why === 'edited and gone')
    const nothing: PairDecided = { writes: {}, outcomes: [], held: pair.held, waits: false }
    const decided = pair.state === 'asleep' || isAsked ? nothing : decidePair(lane, pair, find)
    const does = doesOf(pair, decided, linked.has(pair.id))
    if (decided.held.length > 0) foreseen.held++
    for (const { reason, remedy } of decided.held) {
      const said = reasons.get(reason) ?? { reason, remedy, records: 0 }
      said.records++
      reasons.set(reason, said)
    }
    for (const side of SIDES) {
      const write = decided.writes[side]
      if (!write) continue
      if (write.op === 'create') foreseen.created[side]++
      else foreseen.changed[side]++
      for (const { join } of write.fields) {
        if (join === null) continue
        foreseen.writes[join] ??= { a: 0, b: 0 }
        foreseen.writes[join][side]++
      }
    }
    const n = shown.get(does) ?? 0
    shown.set(does, n + 1)
    if (n < each) foreseen.rows.push(rowOf(pair, decided, does))
  }
  foreseen.reasons = [...reasons.values()].sort((x, y) => y.records - x.records)
  for (const side of SIDES) {
    const together = apps[side].mostTogether(lane.objects[side].name)
    const writes = Math.ceil(foreseen.created[side] / together) + Math.ceil(foreseen.changed[side] / together)
    foreseen.calls[side] = Math.max(1, Math.ceil(records[side].size / PAGE)) + writes
  }
  if (lane.lane.trial) foreseen.withoutTrial = withoutTrial(lane, gathering)
  return { foreseen, gathered, records }
}

function emptyOf(lane: CompiledLane, records: Record<Side, Map<string, Half>>): LaneForeseen {
  const none = () => ({ a: 0, b: 0 })
  return {
    lane: lane.name,
    records: { a: records.a.size, b: records.b.size },
    inScope: none(),
    takingPart: 0,
    paired: 0,
    created: none(),
    changed: none(),
    held: 0,
    reasons: [],
    writes: {},
    losses: {},
    rows: [],
    calls: none(),
    withoutTrial: 0,
  }
}

/** Counts in `losses`, pair by pair. */
function countedLosses({ lane, objects }: CompiledLane, { losses }: LaneForeseen): (pair: Pair) => void {
  const found = lane.fields.flatMap(join => {
    const [a, b] = SIDES.map(side => objects[side].fields.find(({ name }) => name === join[side]))
    return a && b ? lossesOf(join, { a, b }).map(loss => ({ join, loss })) : []
  })
  for (const { join, loss } of found) losses[joinName(join)] = { ...losses[joinName(join)], [loss.into]: 0 }
  return ({ halves }) => {
    for (const { join, loss } of found) {
      const from = other(loss.into)
      if (loss.touches(halves[from]?.record[join[from]] ?? null)) losses[joinName(join)]![loss.into]!++
    }
  }
}

/** Records that would take part without the trial, beside those that do. */
function withoutTrial(lane: CompiledLane, gathering: Parameters<typeof gather>[1]): number {
  const all = gather(lane.withoutTrial(), { ...gathering, newId: () => '' }).pairs
  const now = gather(lane, { ...gathering, newId: () => '' }).pairs
  const count = (pairs: readonly Pair[]) => pairs.filter(({ state }) => state === 'in step').length
  return count(all) - count(now)
}

function doesOf({ halves }: Pair, { writes, held }: PairDecided, linked: boolean): TwoWayRow['does'] {
  if (SIDES.some(side => writes[side]?.op === 'create')) return 'create'
  if (linked) return 'link'
  if (Object.keys(writes).length > 0) return 'change'
  if (held.length > 0) return 'hold'
  return halves.a && halves.b ? 'agree' : 'apart'
}

function rowOf({ halves }: Pair, { writes, held }: PairDecided, does: TwoWayRow['does']): TwoWayRow {
  const seen = (side: Side) => {
    const half = halves[side]
    return half && { id: half.id, values: half.record }
  }
  const becomes = Object.fromEntries(
    SIDES.flatMap(side => (writes[side] ? [[side, writes[side].values]] : [])),
  ) as TwoWayRow['becomes']
  return { does, a: seen('a'), b: seen('b'), becomes, held }
}

/** Pairs that there would be by then: references are said through them. */
class VirtualPairs implements PairLookup {
  private readonly real: PairLookup
  private readonly made = new Map<string, Pair[]>()

  constructor(real: PairLookup) {
    this.real = real
  }

  add(lane: string, pairs: readonly Pair[]): void {
    // Of what takes no part none is made.
    this.made.set(
      lane,
      pairs.filter(({ state }) => state === 'in step' || state === 'asleep'),
    )
  }

  async find(lane: string, side: Side, keys: readonly string[]): Promise<Pair[]> {
    const wanted = new Set(keys)
    const made = this.made.get(lane)
    if (!made) return this.real.find(lane, side, keys)
    return made.flatMap(pair => {
      const half = pair.halves[side]
      if (!half || !wanted.has(half.id)) return []
      // What is to be made there has no key yet.
      const far = pair.halves[other(side)] ?? {
        id: '(the new one)',
        record: {},
        version: null,
        changedAt: null,
      }
      return [{ ...pair, halves: { ...pair.halves, [other(side)]: far } }]
    })
  }
}
