/** Ready-made lanes for apps that are often kept in step; what an account does not have is left out. */
import type { AppObject } from '../app/object.ts'
import type { TwoWayLane } from '../definition/two-way.ts'
import type { Side } from '../merge/rule.ts'

export interface Starter {
  /** What is kept in step, in words. */
  title: string
  lanes: TwoWayLane[]
}

interface StarterData extends Starter {
  /** What the apps are called. */
  apps: Record<Side, string>
}

const STARTERS: readonly StarterData[] = [
  {
    apps: { a: 'Rakeboard', b: 'Benchbook' },
    title: 'Tickets of a crew and jobs of a table, with their comments and programmes',
    lanes: [
      {
        a: 'tickets',
        b: 'jobs',
        originate: 'both',
        scope: {
          a: { all: [{ column: 'labels', op: 'contains', value: 'growers' }] },
          b: { all: [{ column: 'tags', op: 'contains', value: 'crew' }] },
        },
        fields: [
          {
            a: 'summary',
            b: 'job',
            direction: 'both',
            rule: { as: 'affixed', affix: { on: 'b', before: '{id} ', behind: '' } },
          },
          {
            a: 'status',
            b: 'stage',
            direction: 'both',
            rule: {
              as: 'mapped',
              map: {
                pairs: [
                  { a: 'new', b: 'to do' },
                  { a: 'planned', b: 'to do', first: true },
                  { a: 'in progress', b: 'doing' },
                  { a: 'waiting for parts', b: 'waiting' },
                  { a: 'done', b: 'finished', first: true },
                  { a: 'dropped', b: 'finished' },
                ],
                others: 'held',
              },
            },
          },
          { a: 'labels', b: 'tags', direction: 'both' },
          { a: 'season', b: 'season', direction: 'a to b', against: 'put back' },
          { a: 'programme', b: 'programme', direction: 'both' },
          { a: 'assignee', b: 'who', direction: 'both' },
          { a: 'due_at', b: 'due', direction: 'both' },
          { a: 'notes', b: 'notes', direction: 'both' },
          { a: 'watchers', b: 'watchers', direction: 'a to b' },
        ],
        conflict: 'the later',
        tie: 'a',
        first: 'the later',
        pair: [{ fields: [{ a: 'summary', b: 'job', alike: ['case', 'spaces'] }] }],
        links: { a: 'benchbook_job', b: 'ticket' },
      },
      {
        a: 'comments',
        b: 'comments',
        originate: 'both',
        fields: [
          { a: 'ticket', b: 'job', direction: 'both' },
          {
            a: 'body',
            b: 'body',
            direction: 'both',
            rule: {
              as: 'attributed',
              a: '{author}, {created_at}: ',
              b: '{author}, {created_at}: ',
            },
          },
        ],
        conflict: 'the later',
        tie: 'a',
        first: 'the later',
        gone: { a: 'delete', b: 'delete' },
        editedAndGone: 'the deletion wins',
      },
      {
        a: 'programmes',
        b: 'programmes',
        originate: 'a',
        fields: [{ a: 'name', b: 'name', direction: 'both' }],
        conflict: 'the later',
        tie: 'a',
        first: 'a',
        pair: [{ fields: [{ a: 'name', b: 'name', alike: ['case', 'spaces'] }] }],
      },
    ],
  },
  {
    apps: { a: 'Clubgate', b: 'Rowsheet' },
    title: 'Members of clubs and the office’s list of them, with the clubs',
    lanes: [
      {
        a: 'contacts',
        b: 'members',
        originate: 'both',
        scope: { a: { column: 'organisation', isNull: false } },
        fields: [
          { a: 'name', b: 'Name', direction: 'both' },
          { a: 'email', b: 'E-mail', direction: 'both' },
          { a: 'telephone', b: 'Telephone', direction: 'both' },
          { a: 'organisation', b: 'Club', direction: 'both' },
          { a: 'role', b: 'Part', direction: 'both' },
        ],
        conflict: 'the later',
        tie: 'b',
        first: 'b',
        pair: [{ fields: [{ a: 'email', b: 'E-mail', alike: ['case', 'spaces'] }] }],
      },
      {
        a: 'organisations',
        b: 'clubs',
        originate: 'a',
        fields: [
          { a: 'name', b: 'Club', direction: 'both' },
          { a: 'club_number', b: 'Number', direction: 'both' },
          { a: 'telephone', b: 'Telephone', direction: 'both' },
          { a: 'joined_on', b: 'Joined on', direction: 'a to b', against: 'put back' },
        ],
        conflict: 'the later',
        tie: 'a',
        first: 'fill what is empty',
        pair: [{ fields: [{ a: 'club_number', b: 'Number', alike: ['case', 'spaces'] }] }],
      },
    ],
  },
]

/** Those that fit the two apps, in either order of the sides. */
export function startersFor(
  called: Record<Side, string>,
  objects: Record<Side, readonly AppObject[]>,
): Starter[] {
  return STARTERS.flatMap(({ apps, title, lanes }): Starter[] => {
    const turned = apps.a === called.b && apps.b === called.a
    if (!turned && (apps.a !== called.a || apps.b !== called.b)) return []
    const known = lanes
      .map(lane => (turned ? turnedLane(lane) : lane))
      .flatMap(lane => lessOf(lane, objects) ?? [])
    return known.length > 0 ? [{ title, lanes: known }] : []
  })
}

/** Without fields that the account does not have; undefined: it has not the places. */
function lessOf(lane: TwoWayLane, objects: Record<Side, readonly AppObject[]>): TwoWayLane | undefined {
  const found = (side: Side) => objects[side].find(({ name }) => name === lane[side])
  const [a, b] = [found('a'), found('b')]
  if (!a || !b) return undefined
  const has = ({ fields }: AppObject, name: string) => fields.some(one => one.name === name)
  const links = Object.entries(lane.links ?? {}).filter(([side, name]) => has(side === 'a' ? a : b, name))
  return {
    ...lane,
    fields: lane.fields.filter(join => has(a, join.a) && has(b, join.b)),
    ...(lane.links ? { links: Object.fromEntries(links) } : {}),
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
