/** Types as people write them, in the words that they are shown in. */
import { printType, type LogicalType } from './types.ts'

/** Of one word each; decimals have their digits behind them. */
const PLAIN: readonly LogicalType[] = [
  { kind: 'utf8' },
  { kind: 'bool' },
  ...([8, 16, 32, 64] as const).flatMap(bits =>
    [true, false].map((signed): LogicalType => ({ kind: 'int', bits, signed })),
  ),
  { kind: 'float', bits: 32 },
  { kind: 'float', bits: 64 },
  { kind: 'date' },
  { kind: 'timestamp', zoned: false },
  { kind: 'timestamp', zoned: true },
  { kind: 'uuid' },
  { kind: 'json' },
]

/** What a type can be called, but for decimals. */
export const TYPE_NAMES: readonly string[] = PLAIN.map(printType)

/** Most digits of a decimal that every target holds as a number. */
const DECIMAL_DIGITS = 38

/** Undefined for what is called otherwise, such as a decimal of no digits. */
export function typeNamed(name: string): LogicalType | undefined {
  const decimal = /^decimal\((\d{1,2}),(\d{1,2})\)$/.exec(name.replace(/\s/g, ''))
  if (decimal) {
    const [precision, scale] = [Number(decimal[1]), Number(decimal[2])]
    const fits = precision >= 1 && precision <= DECIMAL_DIGITS && scale <= precision
    return fits ? { kind: 'decimal', precision, scale } : undefined
  }
  return PLAIN.find(type => printType(type) === name.trim())
}
