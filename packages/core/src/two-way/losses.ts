/** What values lose on their way between two fields. */
import type { AppField } from '../app/object.ts'
import type { TwoWayJoin } from '../definition/two-way.ts'
import type { Value } from '../merge/form.ts'
import { other, type Side } from '../merge/rule.ts'
import { SIDES } from './lane.ts'
import { NUMBERS } from './meet.ts'

export interface Loss {
  /** The side that takes less. */
  into: Side
  what: string
  remedy: string
  /** Whether a value of the other side loses something. */
  touches(value: Value): boolean
}

/** Of a field pair without a rule of its own: by the types alone. */
export function lossesOf(
  { direction, rule }: Pick<TwoWayJoin, 'direction' | 'rule'>,
  fields: Record<Side, AppField>,
): Loss[] {
  if (rule || fields.a.refers !== null || fields.b.refers !== null) return []
  return SIDES.flatMap(into => {
    if (direction === `${into} to ${other(into)}`) return []
    const lost = losesIn(fields[other(into)], fields[into])
    return lost ? [{ into, ...lost }] : []
  })
}

const HELD = 'Values that do not fit wait in Held.'
/** A time of day that is not the first moment of its day. */
const TIME = /\d[T ](?!00:00(:00(\.0*)?)?(Z|[+-]00(:?00)?)?$)/

function losesIn(from: AppField, into: AppField): Omit<Loss, 'into'> | undefined {
  if (from.type.kind === 'timestamp' && into.type.kind === 'date')
    return {
      what: 'loses the time of day',
      remedy: 'The time stays where it was written, for as long as the day is the same.',
      touches: value => value !== null && TIME.test(value),
    }
  const { maxLength } = into
  if (maxLength !== null && (from.maxLength ?? Infinity) > maxLength && from.type.kind === 'utf8')
    return {
      what: `takes ${maxLength} characters`,
      remedy: HELD,
      touches: value => value !== null && value.length > maxLength && [...value].length > maxLength,
    }
  if (into.type.kind === 'int' && NUMBERS.includes(from.type.kind) && from.type.kind !== 'int')
    return {
      what: 'takes whole numbers alone',
      remedy: HELD,
      touches: value => value !== null && !Number.isInteger(Number(value)),
    }
  return undefined
}
