import { plainMoment, WHOLE, type PrefilterDialect } from '@tide/core/scope/prefilter'
import type { KeyedTable } from '../contract/records.ts'
import { ident, literal } from './sql.ts'

/** What every character set of the server has. */
const PLAIN = /^[ -~]*$/

export const PREFILTER: PrefilterDialect = {
  column: ident,
  literal: ({ nativeType }, value, equal) => {
    if (/^(tiny|small|medium|big)?int\b/.test(nativeType)) return WHOLE.test(value) ? value : undefined
    if (/^(date|datetime|timestamp)\b/.test(nativeType)) {
      const moment = plainMoment(value)
      return moment === undefined ? undefined : literal(moment)
    }
    // Other collations take more for equal, never less.
    if (/^(var)?char\(/.test(nativeType)) return equal && PLAIN.test(value) ? literal(value) : undefined
    return undefined
  },
  // A date of zeros that may not be null is null to the server.
  tellsNull: ({ nativeType }) => /^(tiny|small|medium|big)?int\b|^(var)?char\(|text$/.test(nativeType),
}

/** The condition that rows have these values. */
export function onlyThese(only: KeyedTable['only']): string {
  const conditions = (only ?? []).map(({ column, is }) =>
    is === null ? `${ident(column)} IS NULL` : `${ident(column)} = ${literal(is)}`,
  )
  return conditions.length > 0 ? conditions.join(' AND ') : 'TRUE'
}
