/** A lane made ready: its rules by the fields' types, its references through other lanes, its scopes as tests. */
import type { AppField, AppObject } from '../app/object.ts'
import type { TwoWayJoin, TwoWayLane, TwoWayRule } from '../definition/two-way.ts'
import { laneName } from '../definition/two-way.ts'
import { Failure } from '../failure.ts'
import type { Form, Value } from '../merge/form.ts'
import { compileJoin, type LaneMerge } from '../merge/merge.ts'
import type { Rule, Side } from '../merge/rule.ts'
import { predicateAsOf, type TestedColumn } from '../scope/predicate.ts'
import { templateParts } from '../send/template.ts'
import { joinName, type Half } from './pair.ts'

/** Through what a reference of one side is known on the other. */
export type Through =
  /** The pairs of another lane; `gone`: what becomes of their other halves when one is deleted. */
  | { pairs: string; gone: TwoWayLane['gone'] }
  /** What people call the record that it leads to; on the other side that is text. */
  | { labelsOf: Side; object: string }

export interface CompiledLane {
  name: string
  lane: TwoWayLane
  objects: Record<Side, AppObject>
  merge: LaneMerge
  /** By the place of the field pair. */
  names: string[]
  throughs: (Through | undefined)[]
  /** Field pairs that are left out by themselves. */
  leftOut: TwoWayJoin[]
  /** Fields of a record that are looked at. */
  kept: Record<Side, string[]>
  /** Whether a record may take part by itself; `now`: ISO 8601. */
  inScope(side: Side, half: Half, now: string): boolean
  /** As it would be with all records, not with those of a trial alone. */
  withoutTrial(): CompiledLane
}

const SIDES = ['a', 'b'] as const

/** Throws for what a plan should have refused. */
export function compileLane(
  lane: TwoWayLane,
  objects: Record<Side, AppObject>,
  all: readonly TwoWayLane[],
): CompiledLane {
  const fieldOf = (side: Side, name: string): AppField => {
    const field = objects[side].fields.find(one => one.name === name)
    if (!field) throw new Error(`${objects[side].name} has no field ${name}`)
    return field
  }
  const taken = lane.fields.filter(join => !leadsNowhere(fieldOf('a', join.a), fieldOf('b', join.b), all))
  const joins = taken.map(join => {
    const fields = { a: fieldOf('a', join.a), b: fieldOf('b', join.b) }
    const forms = { a: formOf(fields.a), b: formOf(fields.b) }
    const { a, b, direction, conflict = lane.conflict, against = 'left' } = join
    return compileJoin({ a, b, direction, conflict, against, rule: ruleOf(join, fields) }, forms)
  })
  const tests = { a: testOf('a'), b: testOf('b') }
  function testOf(side: Side) {
    const condition = lane.scope?.[side]
    if (!condition) return undefined
    const columns = objects[side].fields.map(asColumn)
    const test = predicateAsOf(condition, columns)
    return { test, names: columns.map(({ name }) => name) }
  }
  return {
    name: laneName(lane),
    lane,
    objects,
    merge: { joins, tie: lane.tie, first: lane.first },
    names: joins.map(joinName),
    throughs: taken.map(join => throughOf(fieldOf('a', join.a), fieldOf('b', join.b), all)),
    leftOut: lane.fields.filter(join => !taken.includes(join)),
    kept: { a: keptOf(lane, objects.a, 'a'), b: keptOf(lane, objects.b, 'b') },
    inScope: (side, half, now) => {
      const { trial } = lane
      if (trial && !trial[side].includes(half.id)) return false
      const scope = tests[side]
      return !scope || scope.test(now).test(scope.names.map(name => half.record[name] ?? null)) === true
    },
    withoutTrial: () => compileLane(untried(lane), objects, all),
  }
}

function untried({ trial: _, ...lane }: TwoWayLane): TwoWayLane {
  return lane
}

/** Sets are texts in JSON here. */
function asColumn({ name, type }: AppField): TestedColumn {
  return { name, type, nullable: true }
}

export function formOf({ type, email }: AppField): Form {
  switch (type.kind) {
    case 'int':
    case 'decimal':
    case 'float':
      return { kind: 'number' }
    case 'date':
      return { kind: 'date' }
    case 'timestamp':
      return { kind: 'moment' }
    case 'list':
      return { kind: 'set' }
    case 'utf8':
      // Whatever case somebody writes it in, it is the same address.
      return email ? { kind: 'text', trims: true, lowers: true } : { kind: 'text' }
    default:
      return { kind: 'other' }
  }
}

function ruleOf({ rule }: TwoWayJoin, { a, b }: Record<Side, AppField>): Rule {
  if (rule) return rule
  if (a.refers !== null || b.refers !== null) return { as: 'found' }
  if (a.type.kind === 'list' && b.type.kind === 'list') return { as: 'set', others: 'made there' }
  return { as: 'it is' }
}

/** Both refer to objects that no lane joins. */
export function leadsNowhere(a: AppField, b: AppField, all: readonly TwoWayLane[]): boolean {
  return a.refers !== null && b.refers !== null && throughOf(a, b, all) === undefined
}

function throughOf(a: AppField, b: AppField, all: readonly TwoWayLane[]): Through | undefined {
  if (a.refers !== null && b.refers !== null) {
    const lane = all.find(one => one.a === a.refers && one.b === b.refers)
    return lane && { pairs: laneName(lane), gone: lane.gone }
  }
  if (a.refers !== null) return { labelsOf: 'a', object: a.refers }
  return b.refers === null ? undefined : { labelsOf: 'b', object: b.refers }
}

function keptOf(
  lane: TwoWayLane,
  { key, label, version, created, changed, fields }: AppObject,
  side: Side,
): string[] {
  const names = new Set<string>([key])
  for (const name of [label, version, created, changed]) if (name !== null) names.add(name)
  for (const join of lane.fields) {
    names.add(join[side])
    for (const text of textsMadeOf(join.rule, side))
      for (const part of templateParts(text) ?? []) if ('column' in part) names.add(part.column)
  }
  for (const { fields: by } of lane.pair ?? []) for (const one of by) names.add(one[side])
  const link = lane.links?.[side]
  if (link !== undefined) names.add(link)
  // A scope may look at any.
  if (lane.scope?.[side]) for (const { name } of fields) names.add(name)
  return [...names]
}

/** Texts around others that are made of fields of that side. */
export function textsMadeOf(rule: TwoWayRule | undefined, side: Side): string[] {
  if (rule?.as === 'attributed') return [rule[side]]
  return rule?.as === 'affixed' && rule.affix.on !== side ? [rule.affix.before, rule.affix.behind] : []
}

/** A record as it is kept of a side. `told`: when it was changed, in milliseconds, where that does not stand in it. */
export function halfOf(
  lane: CompiledLane,
  side: Side,
  id: string,
  record: Record<string, Value>,
  told = NaN,
): Half {
  const { version, changed } = lane.objects[side]
  const at = changed === null ? told : Date.parse(record[changed] ?? '')
  return {
    id,
    record: Object.fromEntries(lane.kept[side].map(name => [name, record[name] ?? null])),
    version: version === null ? null : (record[version] ?? null),
    changedAt: Number.isNaN(at) ? null : at,
  }
}

/** The same of one as it was read. Without a joined field it is of an object that has lost that: nothing was emptied, and a Failure is thrown. */
export function readHalf(
  lane: CompiledLane,
  side: Side,
  id: string,
  record: Record<string, Value>,
  told?: number,
): Half {
  for (const join of lane.merge.joins)
    if (!Object.hasOwn(record, join[side]))
      throw new Failure(
        'structural',
        `${lane.objects[side].title} have no field “${join[side]}” any more.`,
        'Correct the setup, and continue. Nothing was emptied.',
      )
  return halfOf(lane, side, id, record, told)
}

/** Where new records may start. */
export function originates({ originate }: Pick<TwoWayLane, 'originate'>, side: Side): boolean {
  return originate === 'both' || originate === side
}

export { SIDES }
