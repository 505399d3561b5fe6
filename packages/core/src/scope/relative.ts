/** Dates and times that stand for a distance from now, such as `now - 90 days` and `today + 1 month`; in UTC. */
import type { Column } from '../records/column.ts'
import type { LogicalType } from '../records/types.ts'
import type { Condition } from './condition.ts'

type Typed = Pick<Column, 'name' | 'type'>

const DISTANCE = /^(now|today)(?:\s*([+-])\s*(\d{1,6})\s*(second|minute|hour|day|week|month|year)s?)?$/i

const MILLISECONDS = { second: 1000, minute: 60_000, hour: 3_600_000, day: 86_400_000, week: 604_800_000 }

/** How often it is looked for rows that time has moved in or out: as finely as the unit says, in seconds. */
const LOOKED_FOR: Record<string, number> = { second: 1, minute: 10 }
const LOOKED_FOR_SELDOM = 60

/** The moment of a text such as `now - 90 days`, as canonical text; undefined for any other text, and for other types. */
function momentOf(text: string, type: LogicalType, now: string): string | undefined {
  if (type.kind !== 'date' && type.kind !== 'timestamp') return undefined
  const parts = DISTANCE.exec(text.trim())
  if (!parts) return undefined
  const [, from, sign, count = '0', unit = 'day'] = parts
  const begin = from!.toLowerCase() === 'today' ? `${now.slice(0, 10)}T00:00:00.000Z` : now
  const moved = movedBy(new Date(begin), Number(`${sign ?? ''}${count}`), unit.toLowerCase())
  const iso = moved.toISOString()
  const exact = iso.endsWith('T00:00:00.000Z')
  if (type.kind === 'date') return exact ? iso.slice(0, 10) : iso.slice(0, -1).replace('T', ' ')
  return `${iso.slice(0, -1).replace('T', ' ')}${'zoned' in type && type.zoned ? '+00' : ''}`
}

/** A month that has no such day ends with its last. */
function movedBy(from: Date, count: number, unit: string): Date {
  if (unit !== 'month' && unit !== 'year')
    return clamped(from.getTime() + count * MILLISECONDS[unit as keyof typeof MILLISECONDS])
  const months = from.getUTCMonth() + (unit === 'year' ? count * 12 : count)
  const last = new Date(Date.UTC(from.getUTCFullYear(), months + 1, 0))
  if (Number.isNaN(last.getTime())) return clamped(count < 0 ? -Infinity : Infinity)
  const day = Math.min(from.getUTCDate(), last.getUTCDate())
  return clamped(Date.UTC(last.getUTCFullYear(), last.getUTCMonth(), day) + (from.getTime() % 86_400_000))
}

const [FIRST, LAST] = [Date.UTC(1000, 0, 1), Date.UTC(9999, 11, 31)]

/** Within the years that all systems know. */
function clamped(time: number): Date {
  return new Date(Math.min(LAST, Math.max(FIRST, time)))
}

/** What stands for a distance, with the types of the columns that it is compared with. */
function distances(
  condition: Condition,
  columns: readonly Typed[],
): { column: string; type: LogicalType; text: string }[] {
  if ('all' in condition) return condition.all.flatMap(one => distances(one, columns))
  if ('any' in condition) return condition.any.flatMap(one => distances(one, columns))
  if ('not' in condition) return distances(condition.not, columns)
  if (!('column' in condition) || 'isNull' in condition) return []
  const type = columns.find(({ name }) => name === condition.column)?.type
  const texts = 'in' in condition ? condition.in : [condition.value]
  return texts.flatMap(text =>
    type && momentOf(text, type, SOME_DAY) !== undefined ? [{ column: condition.column, type, text }] : [],
  )
}

const SOME_DAY = '2000-01-01T00:00:00.000Z'

/** Every so many seconds rows come into the scope or leave it by themselves; undefined: they never do. */
export function moves(condition: Condition, columns: readonly Typed[]): number | undefined {
  const found = distances(condition, columns)
  if (found.length === 0) return undefined
  return Math.min(
    ...found.map(
      ({ text }) => LOOKED_FOR[DISTANCE.exec(text.trim())![4]?.toLowerCase() ?? ''] ?? LOOKED_FOR_SELDOM,
    ),
  )
}

/** The condition as of a moment. `now`: ISO 8601, in UTC. */
export function asOf(condition: Condition, columns: readonly Typed[], now: string): Condition {
  const within = (one: Condition) => asOf(one, columns, now)
  if ('all' in condition) return { all: condition.all.map(within) }
  if ('any' in condition) return { any: condition.any.map(within) }
  if ('not' in condition) return { not: within(condition.not) }
  if (!('column' in condition) || 'isNull' in condition) return condition
  const type = columns.find(({ name }) => name === condition.column)?.type
  if (!type) return condition
  const fixed = (text: string) => momentOf(text, type, now) ?? text
  return 'in' in condition
    ? { ...condition, in: condition.in.map(fixed) }
    : { ...condition, value: fixed(condition.value) }
}

/** True at least for the rows that were in scope at one of two moments, and not at the other; undefined: there can be none. */
export function moved(
  condition: Condition,
  columns: readonly Typed[],
  from: string,
  to: string,
): Condition | undefined {
  const any = distances(condition, columns).flatMap(({ column, type, text }): Condition[] => {
    const [before, after] = [momentOf(text, type, from)!, momentOf(text, type, to)!]
    if (before === after) return []
    return [
      {
        all: [
          { column, op: 'is at least', value: before },
          { column, op: 'is at most', value: after },
        ],
      },
    ]
  })
  return any.length > 0 ? { any } : undefined
}
