/** Set times as people choose them, and as five fields. */

export type Every = 'minutes' | 'hour' | 'day' | 'weekday' | 'week' | 'month' | 'fields'

export interface When {
  every: Every
  minute: number
  hour: number
  /** 0 is Sunday. */
  weekday: number
  /** Of the month. */
  day: number
  /** As five fields, where they are written out. */
  cron: string
}

export const EVERY: { value: Every; title: string }[] = [
  { value: 'minutes', title: 'every so many minutes' },
  { value: 'hour', title: 'every hour' },
  { value: 'day', title: 'every day' },
  { value: 'weekday', title: 'from Monday to Friday' },
  { value: 'week', title: 'every week' },
  { value: 'month', title: 'every month' },
  { value: 'fields', title: 'by five fields' },
]

export const WEEKDAYS = ['Sunday', 'Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday']

export const AT_NIGHT: When = { every: 'day', minute: 30, hour: 2, weekday: 1, day: 1, cron: '30 2 * * *' }

export function cronOf({ every, minute, hour, weekday, day, cron }: When): string {
  switch (every) {
    case 'minutes':
      return `*/${Math.max(1, minute)} * * * *`
    case 'hour':
      return `${minute} * * * *`
    case 'day':
      return `${minute} ${hour} * * *`
    case 'weekday':
      return `${minute} ${hour} * * 1-5`
    case 'week':
      return `${minute} ${hour} * * ${weekday}`
    case 'month':
      return `${minute} ${hour} ${day} * *`
    case 'fields':
      return cron
  }
}

/** As it is chosen, where it is one of those; else its five fields. */
export function whenOf(cron: string): When {
  const found = /^(\d{1,2}) (\*|\d{1,2}) (\*|\d{1,2}) \* (\*|1-5|[0-6])$/.exec(cron)
  const asFields: When = { ...AT_NIGHT, every: 'fields', cron }
  const [, step] = /^(?:\*|\*\/(\d{1,2})) \* \* \* \*$/.exec(cron) ?? [undefined, 'none']
  if (step !== 'none') return { ...AT_NIGHT, cron, every: 'minutes', minute: Number(step ?? 1) }
  if (!found) return asFields
  const [, minute, hour, day, weekday] = found as unknown as [string, string, string, string, string]
  const when = { ...AT_NIGHT, cron, minute: Number(minute), hour: hour === '*' ? 0 : Number(hour) }
  if (hour === '*') return day === '*' && weekday === '*' ? { ...when, every: 'hour' } : asFields
  if (day !== '*') return weekday === '*' ? { ...when, every: 'month', day: Number(day) } : asFields
  if (weekday === '*') return { ...when, every: 'day' }
  if (weekday === '1-5') return { ...when, every: 'weekday' }
  return { ...when, every: 'week', weekday: Number(weekday) }
}

const two = (n: number) => String(n).padStart(2, '0')

/** In words; five fields stand for themselves. */
export function whenSaid(cron: string): string {
  const { every, minute, hour, weekday, day } = whenOf(cron)
  const time = `${two(hour)}:${two(minute)}`
  switch (every) {
    case 'minutes':
      return minute === 1 ? 'every minute' : `every ${minute} minutes`
    case 'hour':
      return `every hour at :${two(minute)}`
    case 'day':
      return `every day at ${time}`
    case 'weekday':
      return `from Monday to Friday at ${time}`
    case 'week':
      return `every ${WEEKDAYS[weekday]} at ${time}`
    case 'month':
      return `on day ${day} of every month at ${time}`
    case 'fields':
      return cron
  }
}
