import { parseList, type Nested } from './list.ts'
import type { LogicalType } from './types.ts'
import type { Value } from './value.ts'

/** Whether two canonical texts from different systems are the same value. */
export function sameValue(a: Value, b: Value, type: LogicalType): boolean {
  if (a === b) return true
  if (a === null || b === null || a === undefined || b === undefined) return false
  return oneText(a, type) === oneText(b, type)
}

/**
 * One text for each value. Systems print floats and intervals in more than one way, and numbers with as many digits behind the
 * point as their column has; everything else is equal when its canonical text is.
 */
export function oneText(text: string, type: LogicalType): string {
  switch (type.kind) {
    case 'float':
      // Zero has no sign.
      return String((type.bits === 32 ? Math.fround(Number(text)) : Number(text)) + 0)
    case 'int':
    case 'decimal':
      return plainNumber(text)
    case 'interval':
      return plainInterval(text)
    case 'list': {
      const element = elementOf(type)
      const one = (nested: Nested | Value): unknown =>
        Array.isArray(nested) ? nested.map(one) : nested && oneText(nested, element)
      return JSON.stringify(one(parseList(text, type.delimiter)))
    }
    default:
      return text
  }
}

/** Without zeros at the end behind the point. */
function plainNumber(text: string): string {
  return text.includes('.') ? text.replace(/\.?0+$/, '') : text
}

/** Months in their short form, without signs that say nothing, and without a time of nothing. */
function plainInterval(text: string): string {
  return text
    .replace(/months?/, 'mons')
    .replace(/\bmon\b/, 'mons')
    .replace(/years?/, 'years')
    .replace(/days?/, 'days')
    .replaceAll(' +', ' ')
}

/** What the innermost lists hold. */
function elementOf(type: LogicalType): LogicalType {
  return type.kind === 'list' ? elementOf(type.of) : type
}
