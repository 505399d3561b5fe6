/**
 * Three-way merge of the two records of a pair, field by field: what we last saw and agreed is kept for each side in that side's own form, so that
 * what was written, and what a side has made of that, is no change.
 */
import { normalIn, sameIn, type Form, type Value } from './form.ts'
import { mergeLines } from './lines.ts'
import { other, plainSide, sayer, type Context, type Found, type Rule, type Say, type Side } from './rule.ts'
import { SetMerge } from './sets.ts'

export interface FieldJoin {
  a: string
  b: string
  direction: 'both' | 'a to b' | 'b to a'
  rule: Rule
  /** Both have changed, differently; by line: text that both keep their edits of, but for lines that both have changed. */
  conflict: 'the later' | 'a' | 'b' | 'ask' | 'by line'
  /** A change on the side that only takes: stays until the other changes next, or is put back. */
  against: 'left' | 'put back'
}

export interface CompiledJoin extends FieldJoin {
  forms: Record<Side, Form>
  say: Say | undefined
  set: SetMerge | undefined
  gives: Record<Side, boolean>
}

/** Values stand in the order of the joins. */
export interface Record3 {
  now: Record<Side, readonly Value[]>
  /** As agreed last; undefined: nothing is agreed of the field yet. */
  base: Record<Side, readonly (Value | undefined)[]>
  /** When each was changed last by the systems' own time, of the field or of the record; null: not known. */
  changedAt: Record<Side, (join: number) => number | null>
  /** As people read it. */
  wordsOf(side: Side, field: string): Value
  /** Where it started. */
  origin: Side
  find(join: number, value: string, from: Side): Found
}

export interface LaneMerge {
  joins: readonly CompiledJoin[]
  /** Which wins where both were changed at the same time, or it is not known when. */
  tie: Side
  /** Fields of which nothing is agreed yet: whose value is taken, or only what is empty is filled. */
  first: 'the later' | 'a' | 'b' | 'fill what is empty'
}

/** What becomes of a field that is not as it was agreed. */
export type Outcome = { join: number } & (
  | { comes: 'agreed'; why: 'they say the same' | 'left as it is' }
  /** `why`: by which change or rule. */
  | { comes: 'written'; a?: Value; b?: Value; why: Why }
  | { comes: 'held'; why: 'conflict' | 'no value'; reason: string }
  /** What the value refers to is not there yet. */
  | { comes: 'later' }
)

export type Why =
  | 'a changed'
  | 'b changed'
  | 'a wins'
  | 'b wins'
  | 'lines'
  | 'put back'
  | 'elements'
  | 'first values'
  | 'a person'

export function compileJoin(join: FieldJoin, forms: Record<Side, Form>): CompiledJoin {
  const { rule, direction } = join
  return {
    ...join,
    forms,
    set: rule.as === 'set' ? new SetMerge(rule) : undefined,
    say: rule.as === 'set' ? undefined : sayer(rule, forms),
    gives: { a: direction !== 'b to a', b: direction !== 'a to b' },
  }
}

/** Of fields that are as they were agreed nothing is said. */
export function mergeRecord(lane: LaneMerge, record: Record3): Outcome[] {
  const outcomes: Outcome[] = []
  const { joins } = lane
  const { now, base } = record
  for (let i = 0; i < joins.length; i++) {
    const [a, b, wasA, wasB] = [now.a[i]!, now.b[i]!, base.a[i], base.b[i]]
    // Most fields of most records: neither is another text.
    if (a === wasA && b === wasB) continue
    const outcome = mergeField(lane, i, record)
    if (outcome) outcomes.push(outcome)
  }
  return outcomes
}

function mergeField(lane: LaneMerge, i: number, record: Record3): Outcome | undefined {
  const join = lane.joins[i]!
  const { forms } = join
  const now = { a: record.now.a[i]!, b: record.now.b[i]! }
  const base = { a: record.base.a[i], b: record.base.b[i] }
  if (base.a === undefined || base.b === undefined) return firstValues(lane, i, record, now)
  const known = { a: base.a, b: base.b }
  const changed = { a: !sameIn(forms.a, now.a, known.a), b: !sameIn(forms.b, now.b, known.b) }
  if (!changed.a && !changed.b) return undefined
  const { set } = join
  if (set) return mergeSets(join, i, known, now)
  const field: Field = { join, i, record, now }
  if (changed.a && changed.b) return mergeBoth(lane, field, known)
  return mergeOne(field, changed.a ? 'a' : 'b')
}

interface Field {
  join: CompiledJoin
  i: number
  record: Record3
  now: Record<Side, Value>
}

function contextOf({ i, record, now }: Field, to: Side): Context {
  return {
    wordsOf: (side, name) => record.wordsOf(side, name),
    origin: record.origin,
    find: (value, side) => record.find(i, value, side),
    standing: now[to],
  }
}

/** Writes what one side says to the other, where that does not say so already. */
function carried(field: Field, from: Side, why: Why): Outcome {
  const { join, i, now } = field
  const to = other(from)
  const said = join.say!(now[from], from, contextOf(field, to))
  if (said === 'not yet') return { join: i, comes: 'later' }
  if ('held' in said) return { join: i, comes: 'held', why: 'no value', reason: said.held }
  return sameIn(join.forms[to], said.is, now[to])
    ? { join: i, comes: 'agreed', why: 'they say the same' }
    : { join: i, comes: 'written', [to]: said.is, why }
}

/** What stands there may say it already, in another of the words that mean it. */
function agrees(field: Field): boolean {
  const { join, now } = field
  return (['a', 'b'] as const).some(from => {
    const to = other(from)
    const said = join.say!(now[from], from, contextOf(field, to))
    return said !== 'not yet' && 'is' in said && sameIn(join.forms[to], said.is, now[to])
  })
}

function mergeOne(field: Field, side: Side): Outcome {
  const { join, i } = field
  if (join.gives[side]) return agrees(field) ? sayTheSame(i) : carried(field, side, `${side} changed`)
  if (join.against === 'left') return { join: i, comes: 'agreed', why: 'left as it is' }
  return carried(field, other(side), 'put back')
}

function mergeBoth({ tie }: LaneMerge, field: Field, base: Record<Side, Value>): Outcome {
  const { join, i, record } = field
  if (agrees(field)) return sayTheSame(i)
  if (!join.gives.a) return carried(field, 'b', 'b changed')
  if (!join.gives.b) return carried(field, 'a', 'a changed')
  if (join.conflict === 'by line') return mergedByLine(field, base)
  if (join.conflict === 'ask')
    return { join: i, comes: 'held', why: 'conflict', reason: 'Both sides have changed it, differently.' }
  const wins = join.conflict === 'the later' ? laterOf(record, i, tie) : join.conflict
  return carried(field, wins, `${wins} wins`)
}

function mergedByLine({ join, i, now }: Field, base: Record<Side, Value>): Outcome {
  const merged = hasLines(join) ? mergeLines(base, now) : undefined
  if (!merged)
    return {
      join: i,
      comes: 'held',
      why: 'conflict',
      reason: 'Both sides have changed the same lines of it.',
    }
  const written: { a?: Value; b?: Value } = {}
  for (const side of ['a', 'b'] as const)
    if (!sameIn(join.forms[side], merged[side], now[side])) written[side] = merged[side]
  return 'a' in written || 'b' in written
    ? { join: i, comes: 'written', ...written, why: 'lines' }
    : sayTheSame(i)
}

/** What a side would say by the other's edits alone, of a field whose two edits are merged into one. */
export function withoutOwn(
  join: CompiledJoin,
  base: Record<Side, Value>,
  now: Record<Side, Value>,
  side: Side,
): Value {
  const alone = { ...now, [side]: base[side] }
  const merged = join.set
    ? join.set.merge(base, alone, join.gives)
    : join.conflict === 'by line'
      ? mergeLines(base, alone)
      : undefined
  return merged?.[side] === undefined ? base[side] : merged[side]
}

/** Only plain text can be merged by line. */
export function hasLines({ rule, forms }: Pick<CompiledJoin, 'rule' | 'forms'>): boolean {
  return rule.as === 'it is' && forms.a.kind === 'text' && forms.b.kind === 'text'
}

/** What a person has decided of a field: whose value counts, one of theirs in the words of A, or one on a side alone. */
export type Decided = { take: Side } | { type: Value } | { put: Value; on: Side }

/** The field as a person has decided. */
export function decideField(lane: LaneMerge, i: number, record: Record3, decided: Decided): Outcome {
  const join = lane.joins[i]!
  const now = { a: record.now.a[i]!, b: record.now.b[i]! }
  if ('put' in decided) return { join: i, comes: 'written', [decided.on]: decided.put, why: 'a person' }
  if ('type' in decided) {
    const typed = carriedAny({ join, i, record, now: { ...now, a: decided.type } }, 'a')
    if (typed.comes === 'held' || typed.comes === 'later') return typed
    return {
      ...(typed.comes === 'written' ? typed : { join: i, comes: 'written', why: 'a person' }),
      a: decided.type,
    }
  }
  return carriedAny({ join, i, record, now }, decided.take)
}

function carriedAny(field: Field, from: Side): Outcome {
  const { join, i, now } = field
  if (!join.set) return carried(field, from, 'a person')
  const to = other(from)
  const merged = join.set.merge(
    { a: null, b: null },
    { ...now, [to]: null },
    { a: from === 'a', b: from === 'b' },
  )
  return { join: i, comes: 'written', [to]: merged[to] ?? null, why: 'a person' }
}

function sayTheSame(join: number): Outcome {
  return { join, comes: 'agreed', why: 'they say the same' }
}

function laterOf({ changedAt }: Record3, i: number, tie: Side): Side {
  const [a, b] = [changedAt.a(i), changedAt.b(i)]
  if (a === null || b === null || a === b) return tie
  return a > b ? 'a' : 'b'
}

function mergeSets(
  { set, gives, forms, against }: CompiledJoin,
  i: number,
  base: Record<Side, Value>,
  now: Record<Side, Value>,
): Outcome {
  // What the side that only takes has changed is put back to what was agreed, or counts for as long as the other leaves it.
  const stands = against === 'left' ? now : { a: gives.a ? now.a : base.a, b: gives.b ? now.b : base.b }
  const merged = set!.merge(base, stands, gives)
  const [held] = merged.held
  if (held)
    return {
      join: i,
      comes: 'held',
      why: 'no value',
      reason: `“${held.element}” means nothing on the other side.`,
    }
  const written: { a?: Value; b?: Value } = {}
  for (const side of ['a', 'b'] as const) {
    const is = merged[side] === undefined ? stands[side] : merged[side]
    if (!sameIn(forms[side], is, now[side])) written[side] = is
  }
  return 'a' in written || 'b' in written
    ? { join: i, comes: 'written', ...written, why: 'elements' }
    : { join: i, comes: 'agreed', why: set!.agree(now) ? 'they say the same' : 'left as it is' }
}

/** Nothing was agreed of the field: both were there before, or one was made from the other. */
function firstValues(lane: LaneMerge, i: number, record: Record3, now: Record<Side, Value>): Outcome {
  const join = lane.joins[i]!
  const { first, tie } = lane
  const { gives, forms, set } = join
  const empty = { a: normalIn(forms.a, now.a) === null, b: normalIn(forms.b, now.b) === null }
  if (set) {
    // Of two sets all elements are kept.
    const merged = mergeSets(join, i, { a: null, b: null }, now)
    return merged.comes === 'written' ? { ...merged, why: 'first values' } : merged
  }
  const field: Field = { join, i, record, now }
  const plain = plainSide(join.rule, record.origin)
  // What was never put there is put there once.
  if (plain && gives[plain] && agrees(field)) return carried(field, plain, 'first values')
  if (agrees(field)) return sayTheSame(i)
  if (!gives.a || !gives.b) {
    const giver = gives.a ? 'a' : 'b'
    // Whoever gives nothing yet takes nothing away, but where it alone is to say what stands there.
    if (empty[giver] && join.against === 'left') return { join: i, comes: 'agreed', why: 'left as it is' }
    return carried(field, giver, 'first values')
  }
  if (empty.a !== empty.b) return carried(field, empty.a ? 'b' : 'a', 'first values')
  if (first === 'fill what is empty') return { join: i, comes: 'agreed', why: 'left as it is' }
  return carried(field, first === 'the later' ? laterOf(record, i, tie) : first, 'first values')
}

/**
 * What is agreed after a pass. `answered`: what a side has made of what was written to it. Fields that are held or come later stay as they were
 * agreed before, and so are looked at again.
 */
export function agreedAfter(
  { now, base }: Pick<Record3, 'now' | 'base'>,
  outcomes: readonly Outcome[],
  answered: Record<Side, (join: number) => Value>,
): Record<Side, (Value | undefined)[]> {
  const agreed = { a: [...base.a], b: [...base.b] }
  for (const outcome of outcomes) {
    const { join: i } = outcome
    if (outcome.comes === 'held' || outcome.comes === 'later') continue
    for (const side of ['a', 'b'] as const)
      agreed[side][i] =
        outcome.comes === 'written' && outcome[side] !== undefined ? answered[side](i) : now[side][i]!
  }
  return agreed
}
