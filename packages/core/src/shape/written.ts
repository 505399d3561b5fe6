/** How the values of target columns are made of a row at the source. */
import { compileExpression, isFault } from '../expression/compile.ts'
import { neededFor, type Lane, type WrittenColumn } from '../plan/lane.ts'
import { printName } from '../records/dataset.ts'
import type { LogicalType } from '../records/types.ts'
import type { Value } from '../records/value.ts'
import { NoValue } from '../expression/values.ts'
import { cutTo } from './limit.ts'
import { masking } from './mask.ts'
import { retypingOf } from './retype.ts'

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

/** A target column, and how it is made of a row at the source. */
export interface Made {
  name: string
  /** Of the source columns that it is made of. */
  places: readonly number[]
  /** It is the very value of one of them. */
  taken: boolean
  /** It is computed of all these columns, so that all must be known. */
  whole: boolean
  /** It does not ask how its row came. */
  ofRow: boolean
  /** `row`: the values at those places are there; of one that was not sent it is not known. Throws NoValue. */
  make(row: readonly Value[], coming: Coming): Value
}

type MadeOf = Pick<Lane, 'source' | 'reads' | 'writes' | 'key' | 'problem'>

/** In the order in which they are written. */
export function madeColumns(lane: MadeOf, shaping: Shaping): Made[] {
  const made = eachMade(lane, shaping)
  if (lane.problem === undefined) return made
  // A row that could not be read is told by a column that all rows have, and that finds none.
  const place = lane.reads.findIndex(({ name }) => name === lane.problem)
  const first = lane.writes.findIndex(({ name }) => !lane.key.includes(name))
  return made.map((one, i) => (i === first ? refusing(one, place) : one))
}

/** Columns that the row alone decides, and not how it came; an expression with a fault in it, which the plan refuses, decides nothing. */
export function decidedByRow({ reads, writes }: Pick<MadeOf, 'reads' | 'writes'>): WrittenColumn[] {
  return writes.filter(column => {
    const { value } = column
    if (value.from !== 'computed') return reads.some(({ name }) => name === neededFor(column))
    const compiled = compileExpression(value.expression, reads, text => text)
    return !isFault(compiled) && !compiled.asksMeta
  })
}

function refusing(made: Made, problem: number): Made {
  return {
    ...made,
    places: [...made.places, problem],
    taken: false,
    whole: true,
    make: (row, coming) => {
      const why = row[problem]
      if (why !== null && why !== undefined) throw new NoValue(why)
      return made.make(row, coming)
    },
  }
}

function eachMade(lane: MadeOf, shaping: Shaping): Made[] {
  return lane.writes.map(column => {
    if (column.value.from === 'computed') return computed(column.name, column.value.expression, lane, shaping)
    const source = neededFor(column)
    const place = source === undefined ? -1 : lane.reads.findIndex(({ name }) => name === source)
    return {
      name: column.name,
      places: place < 0 ? [] : [place],
      taken: column.value.from === 'column',
      whole: false,
      ofRow: place >= 0,
      make: maker(column, place, lane.reads[place]?.type ?? column.type, shaping),
    }
  })
}

function computed(
  name: string,
  expression: string,
  { source, reads }: MadeOf,
  { origin, hash }: Shaping,
): Made {
  const compiled = compileExpression(expression, reads, hash)
  if (isFault(compiled))
    throw new Error(`an expression that the plan should have refused: ${compiled.message}`)
  const table = printName(source)
  const places = compiled.columns.map(column => reads.findIndex(one => one.name === column))
  return {
    name,
    places,
    taken: false,
    whole: true,
    ofRow: !compiled.asksMeta,
    make: (row, { op, committedAt, landedAt, position }) =>
      compiled.of(row, { operation: op, committedAt, landedAt, position, origin, table }),
  }
}

/** `type`: of the source column at that place. */
function maker(
  { value: written, type: becomes }: WrittenColumn,
  place: number,
  type: LogicalType,
  { origin, hash }: Shaping,
): Made['make'] {
  switch (written.from) {
    case 'computed':
      throw new Error('a computed column is made of more than one')
    case 'column':
      return row => row[place]
    case 'masked': {
      const mask = masking(written.how, hash)
      return row => {
        const value = row[place]
        return value === undefined ? undefined : mask(value)
      }
    }
    case 'retyped': {
      const retype = retypingOf(type, becomes)
      if (!retype) throw new Error('a type that the plan should have refused')
      return row => ofKnown(row[place], retype)
    }
    case 'cut':
      return row => ofKnown(row[place], text => cutTo(text, written.bytes, type))
    case 'was cut':
      return row => ofKnown(row[place], text => (cutTo(text, written.bytes, type) === text ? 'f' : 't'))
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

/** What was not sent stays so, and null stays null. */
function ofKnown(value: Value, make: (text: string) => string): Value {
  return value === undefined || value === null ? value : make(value)
}

/** Columns of the target beside each other: taken from columns that are beside each other, too, or one that is made. */
export type Stretch = { from: number; to: number } | { made: Made }

/** What is taken in one stretch can be taken at once. `to`: the last place of it. */
export function stretchesOf(columns: readonly Made[]): Stretch[] {
  const stretches: Stretch[] = []
  for (const made of columns) {
    const last = stretches.at(-1)
    if (!made.taken) stretches.push({ made })
    else if (last && 'to' in last && last.to + 1 === made.places[0]) last.to++
    else stretches.push({ from: made.places[0]!, to: made.places[0]! })
  }
  return stretches
}

let [last, other] = [
  { iso: '', moment: '' },
  { iso: '', moment: '' },
]

/** ISO 8601 in UTC as the canonical text of a zoned timestamp. */
export function canonicalMoment(iso: string | null): string | null {
  if (iso === null) return null
  // Rows beside each other mostly were committed at the same moment, and landed at the same other one.
  if (iso !== last.iso) {
    ;[last, other] = [other, last]
    if (iso !== last.iso) last = { iso, moment: iso.replace('T', ' ').replace(/Z$/, '+00') }
  }
  return last.moment
}
