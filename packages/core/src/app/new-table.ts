/** A table that is made so that records of another place can be kept in step with it. */
import type { DatasetName } from '../records/dataset.ts'
import type { LogicalType } from '../records/types.ts'
import type { TwoWayJoin, TwoWayRule } from '../definition/two-way.ts'
import type { AppObject } from './object.ts'

export interface NewTable {
  table: DatasetName
  /** Its rows' own key, which the database gives. */
  key: string
  /** The column that gets the key of the other half. */
  link: string
  /** Each for a field of the other place. */
  columns: { name: string; field: string; type: LogicalType }[]
}

/** As the setup shows it, before it is made and after. */
export interface NewTableLook {
  table: DatasetName
  /** How a lane names it. */
  place: string
  statements: string[]
  /** `asNumber`: truth values are 1 and 0 there. */
  joins: { field: string; column: string; asNumber?: true }[]
  link: string
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

/** `called`: the app that the records are of. Its own key, versions and times of its own, and lists of anything but text have no column. */
export function newTableFor(object: AppObject, called: string, table: DatasetName): NewTable {
  const { key, version, created, changed, fields } = object
  const own = new Set([key, version, created, changed])
  const taken = new Set<string>()
  const free = (text: string): string => {
    const name = columnName(text)
    let unique = name
    for (let n = 2; taken.has(unique); n++) unique = `${name}_${n}`
    taken.add(unique)
    return unique
  }
  const ownKey = free('id')
  const link = free(`${called}_key`)
  const columns = fields.flatMap(({ name, type }) =>
    own.has(name) || (type.kind === 'list' && type.of.kind !== 'utf8')
      ? []
      : [{ name: free(name), field: name, type }],
  )
  return { table, key: ownKey, link, columns }
}

/** Each column with its field: `near` is the side of the table. What cannot be written where it comes from only comes. */
export function newTableJoins(
  { joins }: Pick<NewTableLook, 'joins'>,
  { fields }: Pick<AppObject, 'fields'>,
  near: 'a' | 'b',
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

function truthAsNumber(near: 'a' | 'b'): TwoWayRule {
  const pairs = [
    ['true', '1'],
    ['false', '0'],
  ].map(([truth, number]) => (near === 'b' ? { a: truth!, b: number! } : { a: number!, b: truth! }))
  return { as: 'mapped', map: { pairs, others: 'held' } }
}
