/** The times of a schedule, in its own time zone, whose clocks may be put forward or back. */
import { Cron } from 'croner'
import { Failure } from '../failure.ts'
import type { Schedule } from '../definition/schedule.ts'

type When = Pick<Schedule, 'cron' | 'zone'>

const HOUR_MS = 3_600_000

export interface ScheduledTime {
  /** ISO 8601. */
  at: string
  /** What the clocks of the time zone do to it. */
  note: string | null
}

/** The next times behind `now`. Throws a Failure for what is no schedule, or one that never comes. */
export function nextTimes(when: When, now: number, count: number): ScheduledTime[] {
  const cron = cronOf(when)
  const times = cron.nextRuns(count + 1, new Date(now))
  if (times.length === 0)
    throw new Failure('refused', `“${when.cron}” never comes.`, 'Look at its day and its month.')
  const isTime = new Set(times.map(time => time.getTime()))
  return times
    .slice(0, count)
    .map(time => ({ at: time.toISOString(), note: noteOf(cron, when, time, isTime) }))
}

/** The last time up to `now` and behind `since`, both in milliseconds; undefined: there was none. */
export function lastTime(when: When, since: number, now: number): string | undefined {
  // What is asked for is before the moment that is given.
  const [last] = cronOf(when).previousRuns(1, new Date(now + 1))
  return last && last.getTime() > since ? last.toISOString() : undefined
}

function cronOf({ cron, zone }: When): Cron {
  if (!isZone(zone))
    throw new Failure(
      'refused',
      `There is no time zone “${zone.slice(0, 60)}”.`,
      'Choose one of the list, such as Europe/London.',
    )
  try {
    return new Cron(cron, { timezone: zone, paused: true, mode: '5-part' })
  } catch (cause) {
    throw new Failure(
      'refused',
      `“${cron.slice(0, 100)}” says no times: ${(cause as Error).message.replace(/^CronPattern: /, '')}`,
      'Write five fields: minute, hour, day of the month, month, day of the week; such as 30 2 * * 1-5.',
      cause,
    )
  }
}

function isZone(zone: string): boolean {
  try {
    new Intl.DateTimeFormat('en', { timeZone: zone })
    return true
  } catch {
    return false
  }
}

function noteOf(cron: Cron, { zone }: When, time: Date, isTime: ReadonlySet<number>): string | null {
  if (!cron.match(time))
    return 'The clocks are put forward: the local time does not exist that day, and this is the first that does.'
  const again = [-HOUR_MS, HOUR_MS].map(shift => new Date(time.getTime() + shift))
  const twice = again.find(other => localTime(other, zone) === localTime(time, zone))
  if (!twice || isTime.has(twice.getTime())) return null
  return 'The clocks are put back: the local time comes twice that day, and this is the first of the two.'
}

/** Date and time in a time zone. */
export function localTime(time: Date, zone: string): string {
  return time.toLocaleString('en-CA', {
    timeZone: zone,
    hour12: false,
    ...{ year: 'numeric', month: '2-digit', day: '2-digit', hour: '2-digit', minute: '2-digit' },
  })
}
