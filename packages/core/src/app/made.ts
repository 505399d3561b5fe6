/** What is made on one side so that records of the other can be kept in step with it: a place, or fields of one. */
import type { TwoWayJoin, TwoWayRule } from '../definition/two-way.ts'
import type { Side } from '../merge/rule.ts'
import type { AppField, AppObject } from './object.ts'

/** `field`: of the other side. `asNumber`: truth values are 1 and 0 there. */
export interface MadeJoin {
  field: string
  column: string
  asNumber?: true
}

/** `link`: the field that gets the key of the other half. */
export interface Made {
  place: string
  joins: MadeJoin[]
  link: string | null
}

/** As the setup shows it before it is made, when an app has given no names yet; and after. */
export interface MadeLook extends Made {
  /** Statements or calls. */
  calls: string[]
}

/** A new place, in the schema if there are any, or fields of one that is there; `fields`: of the other side, absent: all. */
export interface Wanted {
  into: { table: string; schema: string | null } | { place: string }
  fields?: string[]
  link: string | null
}

const LONGEST = 50

/** Letters, digits and underscores, as databases like names best. */
export function columnName(text: string): string {
  const name = text
    .normalize('NFKD')
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '_')
    .replace(/^_+|_+$/g, '')
    .slice(0, LONGEST)
  return name === '' || /^\d/.test(name) ? `c_${name}` : name
}

/** Gives names that are not taken. */
export function freeNames(taken: Iterable<string>): (text: string) => string {
  const all = new Set(taken)
  return text => {
    let unique = text
    for (let n = 2; all.has(unique); n++) unique = `${text}_${n}`
    all.add(unique)
    return unique
  }
}

/** Fields that can have one of their own on the other side: not what an app gives a record by itself, and no lists of anything but text. */
export function fieldsToMake({ key, version, created, changed, fields }: AppObject): AppField[] {
  const own = new Set([key, version, created, changed])
  return fields.filter(
    ({ name, type }) => !own.has(name) && (type.kind !== 'list' || type.of.kind === 'utf8'),
  )
}

/** Each with its field: `near` is the side on which it was made. What cannot be written where it comes from only comes. */
export function madeJoins(
  { joins }: Pick<Made, 'joins'>,
  { fields }: Pick<AppObject, 'fields'>,
  near: Side,
): TwoWayJoin[] {
  return joins.map(({ field, column, asNumber }) => {
    const { readOnly = false, refers = null } = fields.find(({ name }) => name === field) ?? {}
    const isGiven = readOnly || refers !== null
    const toward = near === 'a' ? 'b to a' : 'a to b'
    const direction = isGiven ? toward : 'both'
    const rule = asNumber ? { rule: truthAsNumber(near) } : {}
    const [a, b] = near === 'b' ? [field, column] : [column, field]
    return { a, b, direction, ...rule }
  })
}

function truthAsNumber(near: Side): TwoWayRule {
  const pairs = [
    ['true', '1'],
    ['false', '0'],
  ].map(([truth, number]) => (near === 'b' ? { a: truth!, b: number! } : { a: number!, b: truth! }))
  return { as: 'mapped', map: { pairs, others: 'held' } }
}
