/** Ready-made lanes for apps that are often kept in step; what an account does not have is made there, or left out. */
import { madeJoins, type Made, type Wanted } from '../app/made.ts'
import type { AppObject } from '../app/object.ts'
import { plainName } from '../app/plain-name.ts'
import type { TwoWayJoin, TwoWayLane } from '../definition/two-way.ts'
import { other, type Side } from '../merge/rule.ts'
import { SIDES } from './lane.ts'
import { A_DATABASE, STARTERS } from './starter-lanes.ts'

export interface Starter {
  /** What is kept in step, in words. */
  title: string
  lanes: StarterLane[]
}

export interface StarterLane {
  /** With what is there; a place that is not there is ''. */
  lane: TwoWayLane
  /** As it is meant. */
  meant: TwoWayLane
  /** What can be made on that side. */
  lacks?: { side: Side; title: string; wanted: Wanted }
}

interface Known {
  called: Record<Side, string>
  objects: Record<Side, readonly AppObject[]>
  /** Sides on which places and fields can be made; in a schema: it is a database. */
  makes: Partial<Record<Side, { schema: string | null }>>
}

/** Those that fit the two sides, in either order. */
export function startersFor(known: Known): Starter[] {
  const isCalled = (side: Side, name: string) =>
    name === A_DATABASE ? typeof known.makes[side]?.schema === 'string' : known.called[side] === name
  return STARTERS.flatMap(({ apps, title, lanes }): Starter[] => {
    const fits = isCalled('a', apps.a) && isCalled('b', apps.b)
    if (!fits && !(isCalled('b', apps.a) && isCalled('a', apps.b))) return []
    const found = lanes.flatMap(lane => fitted(fits ? lane : turnedLane(lane), known) ?? [])
    return found.length > 0 ? [{ title, lanes: found }] : []
  })
}

/** By name, or as people read it. */
function called<T extends { name: string; title: string }>(all: readonly T[], name: string): T | undefined {
  return all.find(one => one.name === name) ?? all.find(({ title }) => plainName(title) === plainName(name))
}

/** undefined: the places are not there, and cannot be made. */
function fitted(meant: TwoWayLane, { objects, makes }: Known): StarterLane | undefined {
  const found = { a: called(objects.a, meant.a), b: called(objects.b, meant.b) }
  const nowhere = SIDES.find(side => !found[side])
  if (nowhere !== undefined) {
    const there = found[other(nowhere)]
    const maker = makes[nowhere]
    if (!there || !maker) return undefined
    const whole = named(meant, other(nowhere), there)
    const wanted: Wanted = {
      into: { table: meant[nowhere], schema: maker.schema },
      fields: whole.fields.map(join => join[other(nowhere)]),
      link: meant.links?.[nowhere] ?? null,
    }
    return {
      lane: { ...whole, [nowhere]: '', fields: [], pair: [], links: {} },
      meant: whole,
      lacks: { side: nowhere, title: meant[nowhere], wanted },
    }
  }
  const there = found as Record<Side, AppObject>
  const whole = named(named(meant, 'a', there.a), 'b', there.b)
  const has = (side: Side, name: string) => there[side].fields.some(one => one.name === name)
  const lane = without(whole, has)
  const side = SIDES.find(one => makes[one] && lacking(whole, one, has).fields.length > 0)
  if (side === undefined) return { lane, meant: whole }
  const { fields, link } = lacking(whole, side, has)
  const title = there[side].title
  return {
    lane,
    meant: whole,
    lacks: { side, title, wanted: { into: { place: there[side].name }, fields, link } },
  }
}

/** Fields of the other side whose own are not there; and the one that gets the key of the other half. */
function lacking(
  lane: TwoWayLane,
  side: Side,
  has: (side: Side, name: string) => boolean,
): { fields: string[]; link: string | null } {
  const far = other(side)
  const fields = lane.fields.filter(join => !has(side, join[side]) && has(far, join[far]))
  const link = lane.links?.[side]
  return {
    fields: fields.map(join => join[far]),
    link: link === undefined || has(side, link) ? null : link,
  }
}

/** The place and its fields by their own names, where they are there. */
function named(lane: TwoWayLane, side: Side, object: AppObject): TwoWayLane {
  const own = (name: string) => called(object.fields, name)?.name ?? name
  const link = lane.links?.[side]
  return {
    ...lane,
    [side]: object.name,
    fields: lane.fields.map(join => ({ ...join, [side]: own(join[side]) })),
    ...(lane.pair
      ? {
          pair: lane.pair.map(({ fields }) => ({
            fields: fields.map(one => ({ ...one, [side]: own(one[side]) })),
          })),
        }
      : {}),
    ...(link === undefined ? {} : { links: { ...lane.links, [side]: own(link) } }),
  }
}

/** Without fields that are not there. */
function without(lane: TwoWayLane, has: (side: Side, name: string) => boolean): TwoWayLane {
  const both = ({ a, b }: { a: string; b: string }) => has('a', a) && has('b', b)
  const links = Object.entries(lane.links ?? {}).filter(([side, name]) => has(side as Side, name))
  return {
    ...lane,
    fields: lane.fields.filter(both),
    ...(lane.links ? { links: Object.fromEntries(links) } : {}),
    ...(lane.pair ? { pair: lane.pair.filter(({ fields }) => fields.every(both)) } : {}),
  }
}

function withoutRule({ rule: _, ...join }: TwoWayJoin): TwoWayJoin {
  return join
}

/** The lane with what was made for it on that side; `far`: the object of the other. */
export function withMade(
  { lane, meant }: Pick<StarterLane, 'lane' | 'meant'>,
  side: Side,
  made: Made,
  far: AppObject,
): TwoWayLane {
  const by = new Map(madeJoins(made, far, side).map(join => [join[other(side)], join]))
  const newNames = new Map<string, string>()
  const isThere = (join: TwoWayJoin) =>
    lane.fields.some(one => one[other(side)] === join[other(side)] && one[side] === join[side])
  const fields = meant.fields.flatMap(join => {
    if (isThere(join)) return [join]
    const found = by.get(join[other(side)])
    if (!found) return []
    newNames.set(join[side], found[side])
    // What was made has the other's choices.
    const plain = withoutRule(join)
    const rule = found.rule ?? (join.rule?.as === 'mapped' ? undefined : join.rule)
    const direction = found.direction === 'both' ? join.direction : found.direction
    return [{ ...plain, [side]: found[side], direction, ...(rule ? { rule } : {}) }]
  })
  const joined = new Set(fields.map(join => join[side]))
  const pair = (meant.pair ?? []).map(({ fields: by }) => ({
    fields: by.map(one => ({ ...one, [side]: newNames.get(one[side]) ?? one[side] })),
  }))
  const link = made.link ?? lane.links?.[side]
  return {
    ...lane,
    [side]: made.place,
    fields,
    pair: pair.filter(({ fields: by }) => by.every(one => joined.has(one[side]))),
    links: { ...lane.links, ...(link === undefined || link === null ? {} : { [side]: link }) },
  }
}

/** The same with the sides changed over. */
function turnedLane(lane: TwoWayLane): TwoWayLane {
  const over = { a: 'b', b: 'a' } as const
  const side = (one: Side) => over[one]
  const policy = <T extends string>(one: T) => (one === 'a' || one === 'b' ? side(one as Side) : one) as T
  return {
    ...lane,
    a: lane.b,
    b: lane.a,
    originate: policy(lane.originate),
    conflict: policy(lane.conflict),
    tie: side(lane.tie),
    first: policy(lane.first),
    ...(lane.scope
      ? { scope: { ...(lane.scope.b && { a: lane.scope.b }), ...(lane.scope.a && { b: lane.scope.a }) } }
      : {}),
    ...(lane.links
      ? { links: { ...(lane.links.b && { a: lane.links.b }), ...(lane.links.a && { b: lane.links.a }) } }
      : {}),
    ...(lane.pair
      ? {
          pair: lane.pair.map(({ fields }) => ({
            fields: fields.map(one => ({ ...one, a: one.b, b: one.a })),
          })),
        }
      : {}),
    fields: lane.fields.map(join => {
      const { rule, direction } = join
      const turned = { ...join, a: join.b, b: join.a }
      if (direction !== 'both') turned.direction = direction === 'a to b' ? 'b to a' : 'a to b'
      if (rule?.as === 'affixed')
        turned.rule = { as: 'affixed', affix: { ...rule.affix, on: side(rule.affix.on) } }
      if (rule?.as === 'attributed') turned.rule = { ...rule, a: rule.b, b: rule.a }
      if (rule?.as === 'mapped')
        turned.rule = {
          as: 'mapped',
          map: { ...rule.map, pairs: rule.map.pairs.map(pair => ({ ...pair, a: pair.b, b: pair.a })) },
        }
      return turned
    }),
  }
}
