import { parseList, type Nested } from './list.ts'
import type { LogicalType } from './types.ts'
import type { Value } from './value.ts'

/**
 * Whether two canonical texts from different systems are the same value. Systems print floats and intervals in more
 * than one way, and numbers with as many digits behind the point as their column has; everything else is equal when its
 * text is.
 */
export function sameValue(a: Value, b: Value, type: LogicalType): boolean {
  if (a === b) return true
  if (a === null || b === null || a === undefined || b === undefined) return false
  switch (type.kind) {
    case 'float': {
      const [left, right] = [a, b].map(text => (type.bits === 32 ? Math.fround(Number(text)) : Number(text)))
      return Object.is(left, right) || (left === 0 && right === 0)
    }
    case 'int':
    case 'decimal':
      return plainNumber(a) === plainNumber(b)
    case 'interval':
      return plainInterval(a) === plainInterval(b)
    case 'list':
      return sameLists(parseList(a, type.delimiter), parseList(b, type.delimiter), elementOf(type))
    default:
      return false
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

function sameLists(a: Nested | Value, b: Nested | Value, element: LogicalType): boolean {
  if (!Array.isArray(a) || !Array.isArray(b))
    return !Array.isArray(a) && !Array.isArray(b) && sameValue(a, b, element)
  return a.length === b.length && a.every((item, i) => sameLists(item, b[i], element))
}
