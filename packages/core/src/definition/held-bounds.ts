/** How much may be held back of a lane before it stands still. */
import { Type, type Static } from 'typebox'

export const heldBoundsSchema = Type.Object(
  {
    /** Rows; 0: none. Without: `HELD_AT_MOST`. */
    most: Type.Optional(Type.Integer({ title: 'Held back at most', minimum: 0, maximum: 100_000 })),
    /** Of the rows at the target, where those are known, and more than a few. */
    percent: Type.Optional(Type.Integer({ title: 'Percent held back', minimum: 1, maximum: 100 })),
    /** For so long a row may wait for somebody. */
    hours: Type.Optional(Type.Integer({ title: 'Hours held back', minimum: 1, maximum: 8760 })),
  },
  { additionalProperties: false },
)

export type HeldBounds = Static<typeof heldBoundsSchema>

/** So many rows of a lane, where nothing else is said. */
export const HELD_AT_MOST = 1000
/** A table of fewer rows is not measured by shares. */
const LEAST_ROWS = 100
const HOUR_MS = 3_600_000

/** What is said of so many rows of a table, of those `there` (null: not known), where they are too many; undefined: they are not. */
export function tooManyHeld(
  table: string,
  held: number,
  there: number | null,
  { most = HELD_AT_MOST, percent }: HeldBounds,
): string | undefined {
  const said = held.toLocaleString('en')
  if (held > most)
    return `${said} rows of ${table} would be held back, and ${most.toLocaleString('en')} at most may be.`
  if (percent === undefined || there === null || there < LEAST_ROWS) return undefined
  if (held * 100 <= there * percent) return undefined
  return `${said} of the ${there.toLocaleString('en')} rows of ${table} would be held back, and ${percent} % of them at most may be.`
}

/** Whether a row that is held back since then (ISO 8601) has waited for too long. `now`: likewise. */
export function heldTooLong(since: string, now: string, { hours }: HeldBounds): boolean {
  return hours !== undefined && Date.parse(now) - Date.parse(since) > hours * HOUR_MS
}
