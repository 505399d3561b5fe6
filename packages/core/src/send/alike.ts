/** Whether a value that an app tells is the one that it was given, whatever the app has made of its form. */
import type { AppField } from '../app/object.ts'
import { folded } from './mapped.ts'

/** Apps trim, lower, round and write moments in ways of their own: that is nobody's edit. */
export function alike(
  ours: string | null,
  there: string | null,
  { type: { kind } }: Pick<AppField, 'type'>,
): boolean {
  if (ours === there) return true
  // Empty text and nothing are the same to many apps.
  if (ours === null || there === null) return (ours ?? '') === (there ?? '')
  switch (kind) {
    case 'int':
    case 'decimal':
    case 'float':
      return Number(ours).toFixed(2) === Number(there).toFixed(2)
    case 'timestamp':
      return Date.parse(ours) === Date.parse(there)
    case 'list':
    case 'json':
      return sameJson(ours, there)
    default:
      return folded(ours) === folded(there)
  }
}

function sameJson(a: string, b: string): boolean {
  try {
    return JSON.stringify(JSON.parse(a)) === JSON.stringify(JSON.parse(b))
  } catch {
    return a === b
  }
}
