/** Which types of fields can be joined, and what is lost between them. */
import type { AppField } from '../app/object.ts'
import { printType, type LogicalType } from '../records/types.ts'

const NUMBERS = ['int', 'decimal', 'float']
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

/** What a value loses on its way; undefined: nothing. */
export function losesIn(from: AppField, into: AppField): { what: string; remedy: string } | undefined {
  if (from.type.kind === 'timestamp' && into.type.kind === 'date')
    return {
      what: 'loses the time of day',
      remedy: 'The time stays where it was written, for as long as the day is the same.',
    }
  const held = 'Values that do not fit wait in Held.'
  if (into.maxLength !== null && (from.maxLength ?? Infinity) > into.maxLength && from.type.kind === 'utf8')
    return { what: `takes ${into.maxLength} characters`, remedy: held }
  if (into.type.kind === 'int' && NUMBERS.includes(from.type.kind) && from.type.kind !== 'int')
    return { what: 'takes whole numbers alone', remedy: held }
  return undefined
}
