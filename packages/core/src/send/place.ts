import type { SendDefinition } from '../definition/send.ts'

/** Where records are sent to, and by which key rows are known: equal texts for the same. */
export function placeOf({ to, object, key }: Pick<SendDefinition, 'to' | 'object' | 'key'>): string {
  return JSON.stringify([to, object, key])
}
