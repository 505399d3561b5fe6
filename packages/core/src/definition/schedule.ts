/** What is done with a pipeline at set times. */

export const SCHEDULED_DEEDS = [
  'verify',
  'count',
  'catch up',
  'pause',
  'continue',
  'recopy',
  'start',
  'send',
  'keep',
] as const

/**
 * `catch up`: follow until all that the source has then has landed, then rest. `count`: a verification of counts alone. `start`: a
 * pipeline that copies once, or was stopped, is copied anew. `send`: what differs goes into the app. `keep`: a restore point is made.
 */
export type ScheduledDeed = (typeof SCHEDULED_DEEDS)[number]

export interface Schedule {
  deed: ScheduledDeed
  /** Five fields: minute, hour, day of the month, month, day of the week. */
  cron: string
  /** A name of the IANA time zone database. */
  zone: string
  /** What becomes of times at which nobody was there: the last of them is made up for, or all are left out. */
  missed: 'once' | 'leave'
  /** Pipelines that must be complete up to the set time first, or in whose tables rows must have landed. */
  waitsFor: string[]
  /** `landed`: only where rows of those pipelines have landed since the last time; nothing is waited for then. */
  only: 'always' | 'landed'
  enabled: boolean
}

/** What is being done for a set time. Who takes over after a kill does it again. */
export interface Doing {
  /** The set time, ISO 8601. */
  tick: string
  /** `waiting`: for other pipelines. `begun`: until it is over. */
  phase: 'waiting' | 'begun'
  /** The engine process that does it; another goes on when that one is gone. */
  by: string
  /** Of a verification. */
  verification?: string
  /** Of a run that sends, or of a restore point. */
  errand?: string
  /** Of catching up: by what engines run, the source's own time up to which all must land. */
  upTo?: Record<string, string>
}

export interface KeptSchedule extends Schedule {
  id: string
  pipeline: string
  createdAt: string
  /** By pipeline: what had landed when it was done last, as a text that is another one when more has. */
  landed: Record<string, string> | null
  /** The last set time that was seen to. */
  lastTick: string | null
  doing: Doing | null
  /** What came of it last, and when that was. */
  outcome: { at: string; well: boolean; said: string } | null
}
