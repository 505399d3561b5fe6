import type { LogicalType } from './types.ts'

/** The narrowest type that holds every value of both; undefined: there is none, or only one that says less of them. */
export function widest(a: LogicalType, b: LogicalType): LogicalType | undefined {
  if (JSON.stringify(a) === JSON.stringify(b)) return a
  if (a.kind === 'int' && b.kind === 'int') return widestInt(a, b)
  if (a.kind === 'float' && b.kind === 'float') return { kind: 'float', bits: 64 }
  const [exactA, exactB] = [decimalOf(a), decimalOf(b)]
  return exactA && exactB ? widestDecimal(exactA, exactB) : undefined
}

type Int = Extract<LogicalType, { kind: 'int' }>
type Decimal = Extract<LogicalType, { kind: 'decimal' }>

const WIDTHS = [8, 16, 32, 64] as const

function widestInt(a: Int, b: Int): LogicalType {
  if (a.signed === b.signed) return a.bits > b.bits ? a : b
  const [signed, unsigned] = a.signed ? [a, b] : [b, a]
  // A bit more than the unsigned one has, for the sign.
  const bits = WIDTHS.find(width => width >= signed.bits && width > unsigned.bits)
  return bits ? { kind: 'int', bits, signed: true } : { kind: 'decimal', precision: 20, scale: 0 }
}

/** Digits of the greatest value of each width. */
const DIGITS = { 8: 3, 16: 5, 32: 10, 64: 20 }

function decimalOf(type: LogicalType): Decimal | undefined {
  if (type.kind === 'decimal') return type
  return type.kind === 'int' ? { kind: 'decimal', precision: DIGITS[type.bits], scale: 0 } : undefined
}

function widestDecimal(a: Decimal, b: Decimal): LogicalType {
  if (a.precision === undefined || b.precision === undefined) return { kind: 'decimal' }
  const scale = Math.max(a.scale ?? 0, b.scale ?? 0)
  const whole = Math.max(a.precision - (a.scale ?? 0), b.precision - (b.scale ?? 0))
  return { kind: 'decimal', precision: whole + scale, scale }
}
