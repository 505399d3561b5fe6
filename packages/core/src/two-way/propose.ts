/** Which fields of two places belong together, with the reason for each, where nobody has said anything yet. */
import type { AppField, AppObject } from '../app/object.ts'
import { plainName } from '../app/plain-name.ts'
import type { TwoWayJoin, TwoWayLane } from '../definition/two-way.ts'
import type { Side } from '../merge/rule.ts'
import { leadsNowhere } from './lane.ts'
import { joinName } from './pair.ts'
import { cannotMeet } from './meet.ts'

export interface ProposedJoin {
  join: TwoWayJoin
  reason: string
}

/** What people of one trade call what others call so. */
const ALIKE = [
  ['summary', 'title', 'name', 'job', 'subject', 'task'],
  ['status', 'stage', 'state'],
  ['labels', 'tags', 'keywords'],
  ['assignee', 'who', 'owner', 'responsible'],
  ['due', 'duedate', 'dueat', 'dueon', 'deadline'],
  ['notes', 'note', 'description', 'about', 'details'],
  ['telephone', 'phone', 'telephonenumber', 'phonenumber'],
  ['email', 'mail', 'emailaddress'],
  ['organisation', 'club', 'company'],
  ['start', 'starton', 'startdate', 'begin'],
]

/** Of fields that are not joined yet; `all`: every lane, for what links lead to. */
export function proposeJoins(
  lane: TwoWayLane,
  objects: Record<Side, AppObject>,
  all: readonly TwoWayLane[],
): ProposedJoin[] {
  const taken = { a: new Set(lane.fields.map(({ a }) => a)), b: new Set(lane.fields.map(({ b }) => b)) }
  for (const side of ['a', 'b'] as const) {
    const link = lane.links?.[side]
    if (link !== undefined) taken[side].add(link)
  }
  const isFree = (side: Side) => (field: AppField) =>
    !taken[side].has(field.name) &&
    ((field.name === objects[side].key && field.required) ||
      ![objects[side].key, objects[side].version, objects[side].changed].includes(field.name))
  const free = { a: objects.a.fields.filter(isFree('a')), b: objects.b.fields.filter(isFree('b')) }
  const found: ProposedJoin[] = []
  const used = new Set<string>()
  for (const [said, alike] of [
    ['the same name', sameName],
    ['names for the same', sameMeaning],
  ] as const)
    for (const a of free.a) {
      if (found.some(({ join }) => join.a === a.name)) continue
      const b = free.b.find(one => !used.has(one.name) && alike(a, one) && canJoin(a, one, all))
      if (!b) continue
      const direction = a.readOnly ? 'a to b' : b.readOnly ? 'b to a' : 'both'
      if (a.readOnly && b.readOnly) continue
      used.add(b.name)
      const oneWay =
        a.refers !== null && b.refers === null
          ? 'a to b'
          : b.refers !== null && a.refers === null
            ? 'b to a'
            : direction
      const rule = mapOf(a, b)
      found.push({
        join: { a: a.name, b: b.name, direction: oneWay, ...(rule ? { rule } : {}) },
        reason: `${said}${oneWay === 'both' ? '' : oneWay === direction ? ', and one of them cannot be written' : ', and one of them is a link'}`,
      })
    }
  return found.sort((one, two) => (joinName(one.join) < joinName(two.join) ? -1 : 1))
}

function canJoin(a: AppField, b: AppField, all: readonly TwoWayLane[]): boolean {
  if (leadsNowhere(a, b, all)) return false
  return a.refers !== null || b.refers !== null || cannotMeet(a.type, b.type) === undefined
}

/** Choices of the same words mean the same; the others are for a person. */
function mapOf(a: AppField, b: AppField): TwoWayJoin['rule'] {
  if (!a.choices || !b.choices || a.type.kind === 'list') return undefined
  if (a.choices.length === b.choices.length && a.choices.every(one => b.choices!.includes(one)))
    return undefined
  const pairs = a.choices.flatMap(value => {
    const same = b.choices!.find(one => plainName(one) === plainName(value))
    return same === undefined ? [] : [{ a: value, b: same }]
  })
  return { as: 'mapped', map: { pairs, others: 'held' } }
}

const names = ({ name, title }: AppField) => [plainName(name), plainName(title)]

function sameName(a: AppField, b: AppField): boolean {
  return names(a).some(one => names(b).includes(one))
}

function sameMeaning(a: AppField, b: AppField): boolean {
  return ALIKE.some(
    group => names(a).some(one => group.includes(one)) && names(b).some(one => group.includes(one)),
  )
}
