import type { KeyedTable } from '../contract/records.ts'
import { plainMoment, prefilterOf, WHOLE, type PrefilterDialect } from '@tide/core/scope/prefilter'
import { ident, literal } from './text.ts'

/** Equal bytes are equal in every collation, so that `=` lets through all that it must. */
const TEXT = /^(text|character varying(\(\d+\))?)$/

export const PREFILTER: PrefilterDialect = {
  column: ident,
  literal: ({ nativeType }, value, equal) => {
    if (/^(smallint|integer|bigint)$/.test(nativeType)) return WHOLE.test(value) ? value : undefined
    if (/^(date$|timestamp\b)/.test(nativeType)) return momentLiteral(nativeType, value)
    if (nativeType === 'boolean')
      return equal && /^[tf]$/.test(value) ? `${literal(value)}::boolean` : undefined
    if (TEXT.test(nativeType)) return equal && !value.includes('\0') ? `${literal(value)}::text` : undefined
    return undefined
  },
  tellsNull: () => true,
}

function momentLiteral(nativeType: string, value: string): string | undefined {
  const moment = plainMoment(value)
  if (moment === undefined) return undefined
  return nativeType.endsWith('with time zone')
    ? `${literal(`${moment}+00`)}::timestamptz`
    : `${literal(moment)}::timestamp`
}

/** What of the rows need be read, behind `joined`; empty: all. */
export function prefiltered(
  where: KeyedTable['where'],
  columns: KeyedTable['columns'],
  joined: ' WHERE ' | ' AND ',
): string {
  const sql = where && prefilterOf(where, columns, PREFILTER)
  return sql === undefined ? '' : `${joined}${sql}`
}

/** The condition that rows have these values; what is no value of a column's type is compared as text. */
export function onlyThese(only: KeyedTable['only']): string {
  const conditions = (only ?? []).map(({ column, is }) =>
    is === null ? `t.${ident(column)} IS NULL` : `t.${ident(column)}::text = ${literal(is)}`,
  )
  return conditions.length > 0 ? conditions.join(' AND ') : 'true'
}
