/**
 * A scope as SQL that lets every row through for which it is true, and others, too: what a source need not send. Only what is
 * plain to both sides is said; the predicate decides.
 */
import type { Column as FullColumn } from '../records/column.ts'
import { isReal, parseMoment, printMoment } from '../expression/moments.ts'
import type { Condition } from './condition.ts'

type Column = Pick<FullColumn, 'name' | 'type' | 'nativeType'>

/** How a system writes values to compare a column with. */
export interface PrefilterDialect {
  column(name: string): string
  /**
   * The value to compare with; undefined where the system might find otherwise than the predicate does. `equal`: only rows that
   * are equal are asked for, and the system may take more for equal than the predicate.
   */
  literal(column: Column, value: string, equal: boolean): string | undefined
  /** `IS NULL` means just that. */
  tellsNull(column: Column): boolean
}

const OPERATORS: Partial<Record<string, string>> = {
  equals: '=',
  'is less than': '<',
  'is at most': '<=',
  'is more than': '>',
  'is at least': '>=',
}

/** Undefined: it would let all rows through. */
export function prefilterOf(
  condition: Condition,
  columns: readonly Column[],
  dialect: PrefilterDialect,
): string | undefined {
  const within = (one: Condition) => prefilterOf(one, columns, dialect)
  if ('all' in condition) {
    const parts = condition.all.flatMap(one => within(one) ?? [])
    return parts.length > 0 ? `(${parts.join(' AND ')})` : undefined
  }
  if ('any' in condition) {
    const parts = condition.any.map(within)
    return parts.length > 0 && !parts.includes(undefined) ? `(${parts.join(' OR ')})` : undefined
  }
  if (!('column' in condition)) return undefined
  const column = columns.find(({ name }) => name === condition.column)
  if (!column) return undefined
  const name = dialect.column(column.name)
  if ('isNull' in condition)
    return dialect.tellsNull(column) ? `${name} IS ${condition.isNull ? '' : 'NOT '}NULL` : undefined
  if ('in' in condition) {
    const values = condition.in.map(value => dialect.literal(column, value, true))
    return values.length > 0 && !values.includes(undefined) ? `${name} IN (${values.join(', ')})` : undefined
  }
  const operator = OPERATORS[condition.op]
  const value = operator && dialect.literal(column, condition.value, operator === '=')
  return value === undefined ? undefined : `${name} ${operator} ${value}`
}

/** A whole number as every system reads it. */
export const WHOLE = /^-?(0|[1-9]\d{0,37})$/
/** A day or a moment of the years that every system knows, without its offset, which is that of UTC; undefined for others. */
export function plainMoment(text: string): string | undefined {
  const moment = parseMoment(text)
  if (!moment || moment.year < 1000 || !isReal(moment)) return undefined
  return /^\S{10}$/.test(text) ? text : printMoment(moment, false)
}
