/** How numbers of each kind are computed with. */
import {
  addDecimals,
  divideDecimals,
  multiplyDecimals,
  QUOTIENT_DIGITS,
  subtractDecimals,
  type Decimal,
} from './decimal.ts'
import { asInt } from './functions.ts'
import type { ExpressionType, Known } from './values.ts'

type Operation = (x: Known, y: Known) => Known

interface Arithmetic {
  type: ExpressionType
  run: Operation
}

/**
 * `types`: of the operands; `common`: what both are turned into before; `zero` is called where 0 divides. Undefined: there is
 * no such operation.
 */
export function arithmetic(
  op: string,
  types: readonly ExpressionType[],
  common: ExpressionType,
  zero: () => never,
): Arithmetic | undefined {
  if (common.kind === 'double') {
    const run: Record<string, (x: number, y: number) => number> = {
      '+': (x, y) => x + y,
      '-': (x, y) => x - y,
      '*': (x, y) => x * y,
      '/': (x, y) => x / y,
      '%': (x, y) => x % y,
    }
    return { type: common, run: run[op] as Operation }
  }
  if (common.kind === 'int') {
    const run: Record<string, (x: bigint, y: bigint) => bigint> = {
      '+': (x, y) => asInt(x + y),
      '-': (x, y) => asInt(x - y),
      '*': (x, y) => asInt(x * y),
      '/': (x, y) => (y === 0n ? zero() : asInt(x / y)),
      '%': (x, y) => (y === 0n ? zero() : x % y),
    }
    return { type: common, run: run[op] as Operation }
  }
  const run: Record<string, (x: Decimal, y: Decimal) => Decimal> = {
    '+': addDecimals,
    '-': subtractDecimals,
    '*': multiplyDecimals,
    '/': (x, y) => (y.unscaled === 0n ? zero() : divideDecimals(x, y)),
  }
  const scale = scaleOf(op, types)
  const type: ExpressionType = { kind: 'decimal', ...(scale === undefined ? {} : { scale }) }
  return run[op] && { type, run: run[op] as Operation }
}

/** Digits behind the point; undefined where those of an operand are not known. */
function scaleOf(op: string, types: readonly ExpressionType[]): number | undefined {
  const [s, t] = types.map(type => (type.kind === 'decimal' ? type.scale : 0))
  if (s === undefined || t === undefined) return undefined
  if (op === '*') return s + t
  return op === '/' ? Math.max(s, t) + QUOTIENT_DIGITS : Math.max(s, t)
}
