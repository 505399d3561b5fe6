/** What the tests of both connections say that would stop a start. */
import type { CheckItem } from '../api/browse.ts'
import type { PlanNote } from './note.ts'

/** Only what failed, and only what a pipeline needs of that side. */
export function noteChecks(side: 'from' | 'to', name: string, items: readonly CheckItem[]): PlanNote[] {
  return items
    .filter(({ result, for: needed }) => {
      const here = needed === undefined || (needed === 'following' && side === 'from')
      return result === 'failed' && here
    })
    .map(({ what, found, remedy, paste }) => ({
      level: 'refused',
      section: side,
      message: `${name}, ${what.toLowerCase()}: ${found}`,
      remedy: remedy ?? 'Put it right at the system, and look again.',
      ...(paste === undefined ? {} : { paste }),
    }))
}
