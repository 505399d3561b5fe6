import type { KeptSchedule } from '../definition/schedule.ts'
import type { ScheduledTime } from '../schedule/times.ts'

export interface ScheduleAnswer extends Omit<KeptSchedule, 'pipeline'> {
  /** The next times, none while it is switched off. */
  next: ScheduledTime[]
}
