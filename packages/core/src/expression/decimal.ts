/** Exact decimal numbers: `unscaled` × 10^-`scale`. */
export interface Decimal {
  unscaled: bigint
  scale: number
}

const POWERS: bigint[] = []

function power(exponent: number): bigint {
  return (POWERS[exponent] ??= 10n ** BigInt(exponent))
}

const NUMBER = /^([+-]?)(\d*)(?:\.(\d*))?$/

/** Undefined for what is no decimal number, such as `NaN`. */
export function parseDecimal(text: string): Decimal | undefined {
  const parts = NUMBER.exec(text.trim())
  if (!parts || !/\d/.test(text)) return undefined
  const [, sign, whole, fraction = ''] = parts
  const digits = BigInt(`${whole}${fraction}`)
  return { unscaled: sign === '-' ? -digits : digits, scale: fraction.length }
}

export function printDecimal({ unscaled, scale }: Decimal): string {
  const negative = unscaled < 0n
  const digits = String(negative ? -unscaled : unscaled).padStart(scale + 1, '0')
  const text = scale === 0 ? digits : `${digits.slice(0, -scale)}.${digits.slice(-scale)}`
  return negative ? `-${text}` : text
}

function aligned(a: Decimal, b: Decimal): [bigint, bigint, number] {
  if (a.scale === b.scale) return [a.unscaled, b.unscaled, a.scale]
  return a.scale > b.scale
    ? [a.unscaled, b.unscaled * power(a.scale - b.scale), a.scale]
    : [a.unscaled * power(b.scale - a.scale), b.unscaled, b.scale]
}

export function addDecimals(a: Decimal, b: Decimal): Decimal {
  const [left, right, scale] = aligned(a, b)
  return { unscaled: left + right, scale }
}

export function subtractDecimals(a: Decimal, b: Decimal): Decimal {
  const [left, right, scale] = aligned(a, b)
  return { unscaled: left - right, scale }
}

export function multiplyDecimals(a: Decimal, b: Decimal): Decimal {
  return { unscaled: a.unscaled * b.unscaled, scale: a.scale + b.scale }
}

/** So many more digits after the point than the longer of both has. */
export const QUOTIENT_DIGITS = 6

/** Rounded half away from zero. `b` is not zero. */
export function divideDecimals(a: Decimal, b: Decimal): Decimal {
  const scale = Math.max(a.scale, b.scale) + QUOTIENT_DIGITS
  const numerator = a.unscaled * power(scale + b.scale - a.scale)
  return { unscaled: dividedRounded(numerator, b.unscaled), scale }
}

export function compareDecimals(a: Decimal, b: Decimal): number {
  const [left, right] = aligned(a, b)
  return left < right ? -1 : left > right ? 1 : 0
}

/** With just so many digits after the point, rounded half away from zero. */
export function roundDecimal(value: Decimal, digits: number): Decimal {
  if (digits >= value.scale) return { unscaled: value.unscaled * power(digits - value.scale), scale: digits }
  return { unscaled: dividedRounded(value.unscaled, power(value.scale - digits)), scale: digits }
}

/** The greatest whole number that is not greater. */
export function floorDecimal({ unscaled, scale }: Decimal): bigint {
  const by = power(scale)
  const whole = unscaled / by
  return unscaled < 0n && whole * by !== unscaled ? whole - 1n : whole
}

function dividedRounded(numerator: bigint, denominator: bigint): bigint {
  const [n, d] = denominator < 0n ? [-numerator, -denominator] : [numerator, denominator]
  const half = n < 0n ? -d : d
  return (n * 2n + half) / (d * 2n)
}
