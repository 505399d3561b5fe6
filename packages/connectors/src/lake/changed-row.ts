/** The SQL that puts a row together of what its changes have told. */
import type { Key } from '@tide/core/records/value'
import type { KeyedTable } from '../contract/records.ts'
import { ident, literal, typedValue } from '../duckdb/sql.ts'

/** The place of a change among all; a name that no column has by chance. */
export const ORDER = ident('constant tide: its place')
export const UNTOLD = 'change_not_told'
export const UPSERTS = `change_operation IN ('copy', 'insert', 'update', 'into scope')`

/** The row of a key, or none. `changes`: a SELECT of all, each with its place. */
export function rowOfChanges(changes: string, { columns, key }: KeyedTable, of: Key): string {
  const same = (prefix: string) =>
    key
      .map((name, i) => {
        const { type, nativeType } = columns.find(column => column.name === name)!
        return `${ident(`${prefix}${name}`)} = ${typedValue(literal(of[i]!), type, nativeType)}`
      })
      .join(' AND ')
  const [after, before] = [same(''), same('before_')]
  const own = `SELECT *, coalesce(${after}, false) AS "is" FROM (${changes}) WHERE (${after}) OR (${before}) OR change_operation = 'truncate'`
  // From where on there is such a row, if it has not gone since.
  const left = `SELECT coalesce(max(${ORDER}) FILTER (NOT "is"), 0) FROM own`
  const values = columns
    .filter(({ name }) => !key.includes(name))
    .map(({ name }) => {
      // What a change does not tell is as the one before has told it.
      const tells = `NOT coalesce(list_contains(CAST(${UNTOLD} AS VARCHAR[]), ${literal(name)}), false)`
      return `, (arg_max({'v': ${ident(name)}}, ${ORDER}) FILTER (${tells}))['v'] AS ${ident(name)}`
    })
  const by = key.map(ident).join(', ')
  return `WITH own AS MATERIALIZED (${own})
    SELECT ${by}${values.join('')} FROM own WHERE "is" AND ${UPSERTS} AND ${ORDER} > (${left}) GROUP BY ${by}`
}
