/** Whether a table that is there takes what a lane writes, exactly. */
import { canonicalJson } from '../definition/canonical-json.ts'
import type { Dataset, Field } from '../records/dataset.ts'
import { widest } from '../records/widest.ts'
import type { TargetProfile } from './input.ts'
import { madeOf, type Lane, type WrittenColumn } from './lane.ts'
import { someOf } from './note.ts'

export interface StructureAt {
  /** What is not as the lane needs it, in words. */
  differs: string[]
  /** Columns that the table does not have. */
  missing: WrittenColumn[]
  /** Columns of the table that the lane does not write, and that may be null. */
  unwritten: string[]
  /** The table's column takes every value of the lane's. */
  fits(column: WrittenColumn): boolean
  /** The column with the type that the table has. */
  adopt(column: WrittenColumn): WrittenColumn
}

/** `keeps`: rows that are in the table stay there. */
export function structureAt(there: Dataset, lane: Lane, profile: TargetProfile, keeps: boolean): StructureAt {
  const fields = new Map(there.fields.map(field => [profile.nameKey(field.name), field]))
  const fieldOf = ({ name }: WrittenColumn) => fields.get(profile.nameKey(name))
  const fits = (column: WrittenColumn) => {
    const field = fieldOf(column)
    return field !== undefined && takes(field, column, lane, profile)
  }
  const differs: string[] = []
  if (there.kind !== 'table') differs.push('it is a view')
  differs.push(...keyDiffers(there, lane, profile))
  for (const column of lane.writes) {
    const field = fieldOf(column)
    if (!field) continue
    if (field.computed) differs.push(`it computes ${field.name} by itself`)
    else if (!fits(column))
      differs.push(`${field.name} is ${nativeOf(field)} and would have to be ${column.nativeType}`)
    else if (column.nullable && !field.nullable && !lane.key.includes(column.name))
      differs.push(`${field.name} may not be null there`)
  }
  const written = new Set(lane.writes.map(({ name }) => profile.nameKey(name)))
  const others = there.fields.filter(({ name, computed }) => !computed && !written.has(profile.nameKey(name)))
  const required = others.filter(({ nullable }) => !nullable)
  if (required.length > 0)
    differs.push(`${someOf(required.map(({ name }) => name))} must have a value, and the lane writes none`)
  const free = others.filter(({ nullable }) => nullable).map(({ name }) => name)
  if (keeps && free.length > 0 && !profile.keepsOthers)
    differs.push(`${someOf(free)} would lose what is in it, for rows are replaced whole there`)
  return {
    differs,
    missing: lane.writes.filter(column => !fieldOf(column)),
    unwritten: keeps && !profile.keepsOthers ? [] : free,
    fits,
    adopt: column => {
      const field = fieldOf(column)
      return field ? { ...column, nativeType: nativeOf(field), nullable: field.nullable } : column
    },
  }
}

function nativeOf({ nativeType, collation }: Field): string {
  return collation ? `${nativeType} ${collation}` : nativeType
}

function keyDiffers(there: Dataset, { key }: Lane, profile: TargetProfile): string[] {
  if (profile.needsKey === 'none') return []
  const wanted = canonicalJson(key.map(profile.nameKey).sort())
  const { uniques = [] } = there
  const found = uniques.find(({ columns }) => canonicalJson(columns.map(profile.nameKey).sort()) === wanted)
  if (profile.needsKey === 'unique') return found ? [] : [`it has no unique index over ${key.join(', ')}`]
  if (!found?.primary) return [`its primary key is not ${key.join(', ')}`]
  const other = uniques.find(one => one !== found)
  return other
    ? [`it has another unique index, over ${other.columns.join(', ')}, by which rows would be replaced, too`]
    : []
}

/** Spelled otherwise by a system than in the statements that it takes. */
function spelled(native: string): string {
  return native
    .toLowerCase()
    .replace(/\b(tinyint|smallint|mediumint|int|bigint)\(\d+\)/g, '$1')
    .replace(/\bboolean\b/g, 'tinyint')
    .replace(/character set utf8mb4 (?=collate)/g, '')
    .replace(/\btimestamp with time zone\b/g, 'timestamptz')
    .replace(/\bcharacter varying\b/g, 'varchar')
    .replace(/^varchar$/, 'text')
    .replace(/\s+/g, ' ')
}

const withoutCollation = (native: string) =>
  spelled(native).replace(/ ?(character set \S+ )?collate \S+/g, '')

function takes(field: Field, column: WrittenColumn, lane: Lane, profile: TargetProfile): boolean {
  if (spelled(nativeOf(field)) === spelled(column.nativeType)) return true
  const inKey = lane.key.includes(column.name)
  const text = field.type.kind === 'utf8' && column.type.kind === 'utf8'
  // Which keys are equal there must be just as the plan would have made it.
  if (inKey && text) return false
  const is = withoutCollation(field.nativeType)
  if (text && is === withoutCollation(column.nativeType)) return true
  const source = lane.reads.find(({ name }) => name === madeOf(column))
  if (text) return longest(is, column.nativeType) >= longest(source?.nativeType ?? '', 'text')
  // A type of the system that says more than its logical type, such as a precision, may hold less.
  const plain = profile.typeOf({ type: field.type, nativeType: '', sameKind: false, keyParts: 0 })
  if (withoutCollation(plain.native) !== is || plain.note?.startsWith('kept as text')) return false
  // The shortest text of a float is another number as a double.
  if (field.type.kind === 'float' && canonicalJson(field.type) !== canonicalJson(column.type)) return false
  return canonicalJson(widest(field.type, column.type)) === canonicalJson(field.type)
}

/**
 * How many characters a text type takes; NaN where its name does not say, or it does not keep spaces at the end. `plain`: the type
 * for texts of any length at the same system.
 */
function longest(native: string, plain: string): number {
  const is = spelled(native)
  if (is === withoutCollation(plain)) return Infinity
  return Number(/^varchar\((\d+)\)/.exec(is)?.[1] ?? NaN)
}
