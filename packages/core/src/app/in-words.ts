/** Values as people read them in a text. */
import type { Value } from '../merge/form.ts'
import type { AppObject } from './object.ts'

const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']

/** Moments to the minute, in UTC; everything else as it is. */
export function inWords(value: Value, { fields }: AppObject, field: string): Value {
  if (value === null || fields.find(({ name }) => name === field)?.type.kind !== 'timestamp') return value
  const at = new Date(value)
  if (Number.isNaN(at.getTime())) return value
  const [day, time] = at.toISOString().split('T') as [string, string]
  const [year, month, date] = day.split('-') as [string, string, string]
  return `${Number(date)} ${MONTHS[Number(month) - 1]} ${year}, ${time.slice(0, 5)} UTC`
}
