/** What is to be done with a pair, as its records stand: three-way merge by field, and the other half of what is new. Nothing is done here. */
import type { AppField } from '../app/object.ts'
import { inWords } from '../app/in-words.ts'
import { sameIn, type Value } from '../merge/form.ts'
import {
  agreedAfter,
  decideField,
  mergeRecord,
  withoutOwn,
  type Decided,
  type Outcome,
  type Record3,
} from '../merge/merge.ts'
import { other, plainSide, type Found, type Side } from '../merge/rule.ts'
import { fitted } from '../send/fit.ts'
import { halfOf, SIDES, type CompiledLane } from './lane.ts'
import type { HeldField, Half, Pair } from './pair.ts'

/** What is written to one side of a pair. */
export interface PairWrite {
  op: 'create' | 'change'
  values: Record<string, Value>
  /** What each field was, and by which rule it is written; without a field pair: the key of the other half. */
  fields: { field: string; join: string | null; was: Value; why: string }[]
}

export interface PairDecided {
  writes: Partial<Record<Side, PairWrite>>
  outcomes: Outcome[]
  held: HeldField[]
  waits: boolean
}

export type Find = (join: number, value: string, from: Side) => Found

/** `decided`: what a person has said of fields, by the name of their pair. */
export function decidePair(
  lane: CompiledLane,
  pair: Pair,
  find: Find,
  decided: Readonly<Record<string, Decided>> = {},
): PairDecided {
  const record = recordOf(lane, pair, find)
  const outcomes = mergeRecord(lane.merge, record).filter(({ join }) => !(lane.names[join]! in decided))
  for (const [i, name] of lane.names.entries())
    if (name in decided) outcomes.push(decideField(lane.merge, i, record, decided[name]!))
  const says: PairDecided = { writes: {}, outcomes: [], held: [], waits: false }
  for (const outcome of outcomes) take(lane, pair, outcome, says)
  for (const side of SIDES) if (pair.halves[other(side)]) link(lane, pair, side, says)
  if (SIDES.some(side => !pair.halves[side])) forbidHalves(lane, pair, says)
  return says
}

function recordOf(
  { merge, names, objects }: CompiledLane,
  { halves, base, origin }: Pair,
  find: Find,
): Record3 {
  const nowOf = (side: Side) => merge.joins.map(join => halves[side]?.record[join[side]] ?? null)
  const baseOf = (place: 0 | 1) =>
    names.map(name => (Object.hasOwn(base, name) ? base[name]![place] : undefined))
  return {
    now: { a: nowOf('a'), b: nowOf('b') },
    base: { a: baseOf(0), b: baseOf(1) },
    changedAt: { a: () => halves.a?.changedAt ?? null, b: () => halves.b?.changedAt ?? null },
    origin,
    wordsOf: (side, field) => inWords(halves[side]?.record[field] ?? null, objects[side], field),
    find,
  }
}

function take(lane: CompiledLane, pair: Pair, outcome: Outcome, says: PairDecided): void {
  const { names, merge, objects } = lane
  const name = names[outcome.join]!
  const hold = (held: Omit<HeldField, 'join'>) => {
    says.held.push({ join: name, ...held })
  }
  if (outcome.comes === 'later') {
    says.outcomes.push(outcome)
    says.waits = true
    return
  }
  if (outcome.comes === 'held') {
    says.outcomes.push(outcome)
    const side = outcome.why === 'conflict' ? null : sideWithout(lane, pair, outcome.join)
    return hold({ why: outcome.why, side, reason: outcome.reason, remedy: REMEDIES[outcome.why] })
  }
  if (outcome.comes === 'agreed') {
    says.outcomes.push(outcome)
    return
  }
  const creates = SIDES.find(side => !pair.halves[side])
  const writes: [Side, PairWrite['fields'][number], Value][] = []
  for (const side of SIDES) {
    const value = outcome[side]
    // What makes a record says nothing to the one it is made of.
    if (value === undefined || (creates && side !== creates)) continue
    if (creates && value === null) continue
    const field = merge.joins[outcome.join]![side]
    const known = objects[side].fields.find(one => one.name === field)!
    const text = value === null ? emptied(known) : fitted(value, known)
    if ('reason' in text) {
      hold({ why: 'no value', side, reason: `${known.title}: ${text.reason}`, remedy: text.remedy })
      says.outcomes.push({ join: outcome.join, comes: 'held', why: 'no value', reason: text.reason })
      return
    }
    const refused = pair.held.find(
      one => one.join === name && one.side === side && one.why === 'refused' && one.tried === text.text,
    )
    if (refused) {
      says.held.push(refused)
      says.outcomes.push({ join: outcome.join, comes: 'held', why: 'no value', reason: refused.reason })
      return
    }
    const was = pair.halves[side]?.record[field] ?? null
    writes.push([side, { field, join: name, was, why: outcome.why }, text.text])
  }
  says.outcomes.push(outcome)
  for (const [side, field, value] of writes) write(says, pair, side, field, value)
}

const REMEDIES = {
  conflict: 'Take one of the values, or write another.',
  'no value': 'Add it to the value map, or say what it is there.',
} as const

/** Where a value cannot be said. */
function sideWithout({ merge }: CompiledLane, { halves, base }: Pair, join: number): Side | null {
  const { a, b, gives } = merge.joins[join]!
  if (!gives.a || !gives.b) return gives.a ? 'b' : 'a'
  const known = Object.values(base).length > 0
  const changed = known && halves.a && halves.b ? undefined : halves.a ? 'b' : 'a'
  return changed ?? (halves.a?.record[a] !== halves.b?.record[b] ? 'b' : null)
}

/** A set is emptied by one without elements. */
function emptied({ required, type, title }: AppField): { text: Value } | { reason: string; remedy: string } {
  if (required) return { reason: `${title} is required.`, remedy: 'Give it a value there.' }
  return { text: type.kind === 'list' ? '[]' : null }
}

function write(
  says: PairDecided,
  pair: Pair,
  side: Side,
  field: PairWrite['fields'][number],
  value: Value,
): void {
  says.writes[side] ??= { op: pair.halves[side] ? 'change' : 'create', values: {}, fields: [] }
  says.writes[side].values[field.field] = value
  says.writes[side].fields.push(field)
}

/** The key of the other half, where it is missing. */
function link({ lane }: CompiledLane, pair: Pair, side: Side, says: PairDecided): void {
  const field = lane.links?.[side]
  const far = pair.halves[other(side)]
  if (field === undefined || !far) return
  const standing = pair.halves[side]?.record[field] ?? null
  if (standing !== null && standing !== '') return
  write(says, pair, side, { field, join: null, was: standing, why: 'link' }, far.id)
}

/** What is required of a new record is there, or it is not made. */
function forbidHalves({ objects, merge }: CompiledLane, pair: Pair, says: PairDecided): void {
  const side = SIDES.find(one => !pair.halves[one])!
  const made: PairWrite = says.writes[side] ?? { op: 'create', values: {}, fields: [] }
  says.writes = { [side]: made }
  for (const { name, title, required } of objects[side].fields) {
    if (!required || (made.values[name] ?? null) !== null) continue
    // Such as a remark on a record that is not there yet: not held, as nobody can do anything about that.
    if (says.outcomes.some(({ comes, join }) => comes === 'later' && merge.joins[join]![side] === name)) {
      says.writes = {}
      continue
    }
    const there = says.held.find(({ join }) => join !== null && merge.joins.some(one => one[side] === name))
    says.held.unshift({
      join: null,
      why: 'no value',
      side,
      reason: there ? there.reason : `${title} is required there, and there is no value for it.`,
      remedy: 'Give the record a value for it where it started, or join another field.',
    })
    says.writes = {}
    return
  }
}

/** What an app has answered to a write. */
export interface Answered {
  id: string
  record: Record<string, Value>
}

/** The pair once all that was to be written of it is written. */
export function settledPair(
  lane: CompiledLane,
  pair: Pair,
  { outcomes, held, waits: later }: Pick<PairDecided, 'outcomes' | 'held' | 'waits'>,
  answers: Partial<Record<Side, Answered>>,
): Pair {
  let waits = later
  const { names, merge } = lane
  const made = SIDES.find(side => !pair.halves[side] && answers[side])
  const halfAfter = (side: Side): Half | null => {
    const answer = answers[side]
    return answer ? halfOf(lane, side, answer.id, answer.record) : pair.halves[side]
  }
  const halves = { a: halfAfter('a'), b: halfAfter('b') }
  const valueOf = (side: Side) => (join: number) => halves[side]?.record[merge.joins[join]![side]] ?? null
  const { now, base } = recordOf(lane, pair, () => 'not yet')
  const agreed = agreedAfter({ now, base }, outcomes, { a: valueOf('a'), b: valueOf('b') })
  const after: Pair['base'] = {}
  for (const [i, name] of names.entries()) {
    const [a, b] = [agreed.a[i], agreed.b[i]]
    if (a === undefined || b === undefined) continue
    // Of a new record: what its app has added, and what is still to be put before it, is looked at once it is there.
    if (putAroundLater(lane, i, pair.origin, outcomes)) continue
    if (made && !agreesAsMade(lane, i, pair.origin, made, outcomes, valueOf(made)(i))) continue
    after[name] = [a, b]
  }
  const both = halves.a !== null && halves.b !== null
  // What is to be written on both sides is written on one after the other; it then counts as changed on the first.
  for (const outcome of outcomes) {
    if (outcome.comes !== 'written') continue
    const name = names[outcome.join]!
    const [done, open] = [
      SIDES.filter(side => side in outcome && answers[side]),
      SIDES.filter(side => side in outcome && !answers[side]),
    ]
    if (open.length === 0) continue
    const was = pair.base[name]
    const values: [Value, Value] = [now.a[outcome.join]!, now.b[outcome.join]!]
    if (done.length === 0 || (!was && outcome.why !== 'a person')) {
      if (was) after[name] = was
      else delete after[name]
    } else {
      const [side] = done as [Side]
      // What the other has brought there is agreed; what it had of its own still counts as its edit.
      if (was)
        values[side === 'a' ? 0 : 1] = withoutOwn(
          merge.joins[outcome.join]!,
          { a: was[0], b: was[1] },
          { a: values[0], b: values[1] },
          side,
        )
      after[name] = values
    }
    if (both) waits = true
  }
  const unagreed = names.some(name => !(name in after) && !held.some(({ join }) => join === name))
  const unlinked = SIDES.some(side => {
    const field = lane.lane.links?.[side]
    return field !== undefined && both && !halves[side]!.record[field]
  })
  // What is not made yet waits for what it refers to, unless a person is asked first.
  const waitsForMaking = !both && later && held.length === 0
  return {
    ...pair,
    halves,
    base: after,
    held,
    waits: waitsForMaking || (both && (waits || unagreed || unlinked)),
  }
}

/** The plain text has come from where text is put around it; what is put around it there is made of it next. */
function putAroundLater(
  { merge }: CompiledLane,
  join: number,
  origin: Side,
  outcomes: readonly Outcome[],
): boolean {
  const plain = plainSide(merge.joins[join]!.rule, origin)
  const outcome = outcomes.find(one => one.join === join)
  if (!plain || outcome?.comes !== 'written' || outcome.why !== 'first values') return false
  return plain in outcome
}

function agreesAsMade(
  { merge }: CompiledLane,
  join: number,
  origin: Side,
  made: Side,
  outcomes: readonly Outcome[],
  is: Value,
): boolean {
  if (plainSide(merge.joins[join]!.rule, origin) === made) return false
  const outcome = outcomes.find(one => one.join === join)
  const wrote = outcome?.comes === 'written' && (outcome[made] ?? null) !== null
  return wrote || is === null || is === '' || is === '[]'
}

/** What is to be done with a pair one half of which is gone. */
export function decideGone(
  { lane, objects, merge, names }: CompiledLane,
  pair: Pair,
  gone: Side,
):
  { do: 'remove' | 'apart' | 'create' } | { do: 'mark'; write: PairWrite } | { do: 'hold'; held: HeldField } {
  const left = other(gone)
  const half = pair.halves[left]
  if (!half) return { do: 'apart' }
  const policy = lane.gone?.[gone] ?? 'leave'
  const edited = merge.joins.some((join, i) => {
    const base = pair.base[names[i]!]
    return (
      join.gives[left] &&
      base !== undefined &&
      // What an app makes of nothing, such as an empty list, is nobody's edit.
      !sameIn(join.forms[left], base[left === 'a' ? 0 : 1], half.record[join[left]] ?? null)
    )
  })
  if (edited && policy !== 'leave') {
    const wins = lane.editedAndGone ?? 'ask'
    if (wins === 'the edit wins') return { do: 'create' }
    if (wins === 'ask')
      return {
        do: 'hold',
        held: {
          join: null,
          why: 'edited and gone',
          side: gone,
          reason: `It was deleted on one side, and edited on the other: ${objects[left].title} ${half.id}.`,
          remedy: 'Let the deletion win, or the edit.',
        },
      }
  }
  if (policy === 'leave') return { do: 'apart' }
  if (policy === 'delete') return { do: 'remove' }
  const was = half.record[policy.mark] ?? null
  const fields = [{ field: policy.mark, join: null, was, why: 'gone' }]
  return { do: 'mark', write: { op: 'change', values: { [policy.mark]: policy.as }, fields } }
}
