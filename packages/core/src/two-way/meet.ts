/** Which types of fields can be joined. */
import { printType, type LogicalType } from '../records/types.ts'

export const NUMBERS = ['int', 'decimal', 'float']
const DAYS = ['date', 'timestamp']

/** undefined: they can. */
export function cannotMeet(a: LogicalType, b: LogicalType): string | undefined {
  const [one, two] = [a.kind, b.kind]
  const meet =
    one === two ||
    (NUMBERS.includes(one) && NUMBERS.includes(two)) ||
    (DAYS.includes(one) && DAYS.includes(two)) ||
    // Whatever is not text is text on the other side, and is read from it again.
    ((one === 'utf8' || two === 'utf8') && one !== 'list' && two !== 'list')
  return meet ? undefined : `one is ${printType(a)}, the other ${printType(b)}`
}
