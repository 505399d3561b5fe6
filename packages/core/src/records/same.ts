import type { LogicalType } from './types.ts'
import type { Value } from './value.ts'

/**
 * Whether two canonical texts from different systems are the same value. Systems print floats and intervals in more
 * than one way; everything else is equal when its text is.
 */
export function sameValue(a: Value, b: Value, type: LogicalType): boolean {
  if (a === b) return true
  if (a === null || b === null || a === undefined || b === undefined) return false
  switch (type.kind) {
    case 'float':
      return Object.is(Number(a), Number(b)) || (Number(a) === 0 && Number(b) === 0)
    case 'interval':
      return plainInterval(a) === plainInterval(b)
    case 'list':
      return sameLists(JSON.parse(a), JSON.parse(b), type.of)
    default:
      return false
  }
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

function sameLists(a: unknown, b: unknown, type: LogicalType): boolean {
  if (!Array.isArray(a) || !Array.isArray(b)) return sameValue(a as Value, b as Value, type)
  return a.length === b.length && a.every((item, i) => sameLists(item, b[i], type))
}
