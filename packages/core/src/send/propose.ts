/** Which columns go to which fields, by their names, where nobody has said anything yet. */
import type { AppField, AppObject } from '../app/object.ts'
import { plainName } from '../app/plain-name.ts'
import type { FieldPair, MatchKey } from '../definition/send.ts'
import type { SentColumn } from './mapped.ts'

export interface Proposed {
  fields: FieldPair[]
  meets: MatchKey[]
}

/** `taken`: fields that are set already. */
export function proposeFields(
  columns: readonly SentColumn[],
  { fields, findBy }: AppObject,
  taken: readonly string[],
): Proposed {
  const byName = new Map(columns.map(column => [plainName(column.name), column]))
  const find = ({ name, title }: AppField) => byName.get(plainName(name)) ?? byName.get(plainName(title))
  const free = fields.filter(({ name, readOnly }) => !readOnly && !taken.includes(name))
  const found = free.flatMap((field): FieldPair[] => {
    const column = find(field)
    return column ? [{ field: field.name, from: { column: column.name } }] : []
  })
  // A field that says which record it is, or that the app can be asked by.
  const meets = fields
    .filter(field => (field.unique || findBy.includes(field.name)) && find(field))
    .sort((a, b) => Number(b.unique) - Number(a.unique))
    .slice(0, 1)
    .map((field): MatchKey => ({
      column: find(field)!.name,
      field: field.name,
      alike: 'but for case and spaces',
    }))
  return { fields: found, meets }
}
