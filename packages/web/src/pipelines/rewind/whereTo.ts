import { findPositions, type PlaceAsked } from '@tide/core/position/find'

/** A place that somebody may mean, and how it is told. */
export interface Meant {
  to: PlaceAsked
  said: string
}

/**
 * What a text may mean: a clock time of today (or of yesterday, where that is still to come), a date and time by the clock of this
 * machine or with a zone, or the positions of a source's kind that stand somewhere in it.
 */
export function whereTo(text: string, kind: string | undefined, now: number): Meant[] {
  const written = text.trim()
  const time = timeOf(written, now)
  if (time !== undefined) return [{ to: { time: time.toISOString() }, said: 'this time' }]
  if (kind === undefined) return []
  return findPositions(kind, written).map(position => ({ to: { position }, said: position }))
}

function timeOf(text: string, now: number): Date | undefined {
  const clock = /^(\d{1,2}):(\d\d)(?::(\d\d))?$/.exec(text)
  if (clock) {
    const [hours, minutes, seconds] = clock.slice(1).map(part => Number(part ?? 0)) as [
      number,
      number,
      number,
    ]
    if (hours > 23 || minutes > 59 || seconds > 59) return undefined
    const today = new Date(now)
    today.setHours(hours, minutes, seconds, 0)
    return today.getTime() > now ? new Date(today.getTime() - 86_400_000) : today
  }
  const full = /^(\d{4}-\d\d-\d\d)(?:[ T](\d\d:\d\d(?::\d\d(?:\.\d+)?)?))?( ?(?:Z|[+-]\d\d:?\d\d))?$/.exec(
    text,
  )
  if (!full) return undefined
  const date = new Date(`${full[1]}T${full[2] ?? '00:00'}${full[3]?.trim() ?? ''}`)
  return Number.isNaN(date.getTime()) ? undefined : date
}
