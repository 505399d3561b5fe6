/** Compiled parts of an expression, and how they are put together. */
import { compareText } from '../scope/order.ts'
import type { Value } from '../records/value.ts'
import { compareDecimals, type Decimal } from './decimal.ts'
import { asDecimal } from './functions.ts'
import { compareMoments, type Moment } from './moments.ts'
import { printer, type ExpressionType, type Known } from './values.ts'

/** What an expression can ask beside the row. All are texts but the moments. */
export interface Meta {
  operation: string
  committedAt: string | null
  landedAt: string
  position: string | null
  origin: string
  table: string
}

export interface Row {
  row: readonly Value[]
  meta: Meta
}

export type Run = (at: Row) => Known | null

/** `literal`: what is written there. */
export interface Part {
  type: ExpressionType
  nullable: boolean
  run: Run
  literal?: Known
}

export function isNumber({ kind }: ExpressionType): boolean {
  return kind === 'int' || kind === 'decimal' || kind === 'double'
}

export function converted({ type, run }: Part, { kind }: ExpressionType): Run {
  if (type.kind === kind) return run
  if (kind === 'decimal') return lifted([{ run }], asDecimal)
  const print = printer(type)
  return lifted([{ run }], value => Number(print(value)))
}

/** Null where one of them is. */
export function lifted(parts: readonly { run: Run }[], make: (...values: Known[]) => Known): Run {
  const [a, b] = parts.map(({ run }) => run)
  if (parts.length === 1) {
    return at => {
      const value = a!(at)
      return value === null ? null : make(value)
    }
  }
  if (parts.length === 2) {
    return at => {
      const [x, y] = [a!(at), b!(at)]
      return x === null || y === null ? null : make(x, y)
    }
  }
  return at => {
    const values = parts.map(({ run }) => run(at))
    return values.includes(null) ? null : make(...(values as Known[]))
  }
}

export function orderOf({ kind }: ExpressionType): (a: Known, b: Known) => number {
  switch (kind) {
    case 'string':
      return (a, b) => compareText(a as string, b as string)
    case 'decimal':
      return (a, b) => compareDecimals(a as Decimal, b as Decimal)
    case 'int':
      return (a, b) => ((a as bigint) < (b as bigint) ? -1 : (a as bigint) > (b as bigint) ? 1 : 0)
    case 'double':
      return (a, b) => compareDoubles(a as number, b as number)
    case 'bool':
      return (a, b) => Number(a) - Number(b)
    default:
      return (a, b) => compareMoments(a as Moment, b as Moment)
  }
}

/** NaN equals itself and is greatest, as in SQL. */
function compareDoubles(a: number, b: number): number {
  if (Number.isNaN(a) || Number.isNaN(b)) return Number(Number.isNaN(a)) - Number(Number.isNaN(b))
  return a < b ? -1 : a > b ? 1 : 0
}
