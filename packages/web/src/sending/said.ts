/** What a run would do or did, in words. */
import type { SendCounts, SendRow } from '@tide/core/api/send'
import { count } from '../format.ts'

export const OPS: Record<SendRow['op'], string> = {
  create: 'create',
  change: 'change',
  remove: 'remove',
  held: 'held back',
  left: 'left as it is',
}

export function countsSaid({ create, change, remove, unchanged, held, left }: SendCounts): string {
  const parts = [
    create > 0 && `creates ${count(create)}`,
    change > 0 && `changes ${count(change)}`,
    remove > 0 && `removes ${count(remove)}`,
    held > 0 && `holds back ${count(held)}`,
    left > 0 && `leaves ${count(left)} alone`,
    unchanged > 0 && `has ${count(unchanged)} as they are`,
  ].filter(part => part !== false)
  return parts.length === 0 ? 'has nothing to do' : parts.join(', ')
}

export function keySaid(key: readonly string[]): string {
  return key.join(', ')
}
