/** Dates and moments of canonical text, for expressions: years 1 to 9999, as the calendar of today was always used. */

/** In UTC where it has a zone, else as it was written. */
export interface Moment {
  year: number
  month: number
  day: number
  hour: number
  minute: number
  second: number
  microseconds: number
}

const MOMENT =
  /^(\d{4})-(\d\d)-(\d\d)(?:[ T](\d\d):(\d\d)(?::(\d\d)(?:\.(\d{1,6}))?)?)?(?:Z|[+-]00(?::?00)?)?$/

/** Undefined for what is outside of those years, such as `infinity`. */
export function parseMoment(text: string): Moment | undefined {
  const parts = MOMENT.exec(text)
  if (!parts) return undefined
  const [, year, month, day, hour = '0', minute = '0', second = '0', fraction = ''] = parts
  return {
    year: Number(year),
    month: Number(month),
    day: Number(day),
    hour: Number(hour),
    minute: Number(minute),
    second: Number(second),
    microseconds: Number(fraction.padEnd(6, '0')),
  }
}

/** Whether there is such a moment: no 31 February, and no minute 60. */
export function isReal({ year, month, day, hour, minute, second }: Moment): boolean {
  if (year < 1 || month < 1 || month > 12 || day < 1) return false
  const leap = year % 4 === 0 && (year % 100 !== 0 || year % 400 === 0)
  const days = month === 2 ? (leap ? 29 : 28) : [4, 6, 9, 11].includes(month) ? 30 : 31
  return day <= days && hour < 24 && minute < 60 && second < 60
}

const two = (value: number) => String(value).padStart(2, '0')

export function printDate({ year, month, day }: Moment): string {
  return `${String(year).padStart(4, '0')}-${two(month)}-${two(day)}`
}

/** `zoned`: with the offset of UTC. */
export function printMoment(moment: Moment, zoned: boolean): string {
  const { hour, minute, second, microseconds } = moment
  const fraction = microseconds === 0 ? '' : `.${String(microseconds).padStart(6, '0').replace(/0+$/, '')}`
  return `${printDate(moment)} ${two(hour)}:${two(minute)}:${two(second)}${fraction}${zoned ? '+00' : ''}`
}

export const UNITS = ['year', 'month', 'day', 'hour', 'minute', 'second'] as const

export type Unit = (typeof UNITS)[number]

/** The moment at which its year, month, day … began. */
export function startOf(moment: Moment, unit: Unit): Moment {
  const kept = UNITS.indexOf(unit)
  const beginning = { month: 1, day: 1, hour: 0, minute: 0, second: 0 }
  const part = (name: Exclude<Unit, 'year'>) => (UNITS.indexOf(name) <= kept ? moment[name] : beginning[name])
  return {
    year: moment.year,
    month: part('month'),
    day: part('day'),
    hour: part('hour'),
    minute: part('minute'),
    second: part('second'),
    microseconds: 0,
  }
}

export function compareMoments(a: Moment, b: Moment): number {
  for (const part of UNITS) if (a[part] !== b[part]) return a[part] - b[part]
  return a.microseconds - b.microseconds
}
