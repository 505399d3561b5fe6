/** How the values of target columns are made of a row at the source. */
import type { WrittenColumn } from '../plan/lane.ts'
import { madeOf } from '../plan/lane.ts'
import type { Column } from '../records/column.ts'
import type { Value } from '../records/value.ts'
import { masking } from './mask.ts'

/** What is the same for all rows of a lane. */
export interface Shaping {
  /** The tag of the origin that they are of. */
  origin: string
  /** HMAC-SHA-256 of a text, by the key that masks are made with; in hexadecimal digits. */
  hash(text: string): string
}

/** What a row says of how it came. */
export interface Coming {
  /** `copy`: with the copy of its table. */
  op: 'insert' | 'update' | 'delete' | 'truncate' | 'copy'
  /** ISO 8601; null: it is not known, as with rows that were copied. */
  committedAt: string | null
  position: string | null
  /** ISO 8601, by our clock. */
  landedAt: string
}

/** A target column: the place of the source column that it is made of, or -1, and how. */
export interface Made {
  place: number
  /** It is that very value. */
  taken: boolean
  /** `value`: of the source column; what was not sent stays so. */
  make(value: Value, coming: Coming): Value
}

export function madeColumn(column: WrittenColumn, reads: readonly Column[], shaping: Shaping): Made {
  const source = madeOf(column)
  const place = source === undefined ? -1 : reads.findIndex(({ name }) => name === source)
  return { place, taken: column.value.from === 'column', make: maker(column, shaping) }
}

function maker({ value: written }: WrittenColumn, { origin, hash }: Shaping): Made['make'] {
  switch (written.from) {
    case 'column':
      return value => value
    case 'masked': {
      const mask = masking(written.how, hash)
      return value => (value === undefined ? undefined : mask(value))
    }
    case 'constant':
      return () => written.value
    case 'origin':
      return () => origin
    case 'metadata':
      switch (written.what) {
        case 'operation':
          return (_, { op }) => op
        case 'committed at':
          return (_, { committedAt }) => canonicalMoment(committedAt)
        case 'landed at':
          return (_, { landedAt }) => canonicalMoment(landedAt)
        case 'position':
          return (_, { position }) => position
        case 'deleted at':
          return (_, { op, committedAt, landedAt }) =>
            op === 'delete' || op === 'truncate' ? canonicalMoment(committedAt ?? landedAt) : null
      }
  }
}

/** Columns of the target beside each other: taken from columns that are beside each other, too, or one that is made. */
export type Stretch = { from: number; to: number } | { made: Made }

/** What is taken in one stretch can be taken at once. `to`: the last place of it. */
export function stretchesOf(columns: readonly Made[]): Stretch[] {
  const stretches: Stretch[] = []
  for (const made of columns) {
    const last = stretches.at(-1)
    if (!made.taken) stretches.push({ made })
    else if (last && 'to' in last && last.to + 1 === made.place) last.to++
    else stretches.push({ from: made.place, to: made.place })
  }
  return stretches
}

let [lastIso, lastMoment] = ['', '']

/** ISO 8601 in UTC as the canonical text of a zoned timestamp. */
export function canonicalMoment(iso: string | null): string | null {
  if (iso === null) return null
  // Rows beside each other mostly came at the same moment.
  if (iso !== lastIso) [lastIso, lastMoment] = [iso, iso.replace('T', ' ').replace(/Z$/, '+00')]
  return lastMoment
}
