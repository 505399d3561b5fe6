import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { canonicalOf, inferType } from '../src/records/infer.ts'
import { printType, type LogicalType } from '../src/records/types.ts'

const inferred = (...texts: string[]) => printType(inferType(texts))

describe('the type of texts', () => {
  test.each([
    [['1', '-20', '+3'], 'int64'],
    [['1', '20.55'], 'decimal(18,2)'],
    [['1', '12345678901234567890'], 'decimal(38,0)'],
    [['1.5e3', '2'], 'float64'],
    [['007', '12'], 'text'],
    [['true', 'F'], 'bool'],
    [['2026-02-28', '2026-03-01'], 'date'],
    [['2026-02-30'], 'text'],
    [['2026-03-09T17:00:00Z', '2026-03-09 17:00:00.5+05:30'], 'timestamp with zone'],
    [['2026-03-09 17:00', '2026-03-09T17:00:01'], 'timestamp'],
    [['2026-03-09T17:00:00Z', '2026-03-09T17:00:00'], 'text'],
    [['0B4CBE37-1c4c-4b8b-8a57-0123456789ab'], 'uuid'],
    [['{"a": 1}', '[1, 2]'], 'json'],
    [['abc', '1'], 'text'],
    [[], 'text'],
  ])('%j: %s', (texts, type) => {
    expect(inferred(...texts)).toBe(type)
  })

  test('whatever is found fits its type, and its canonical text is a fixed point', () => {
    const some = fc.oneof(
      fc.bigInt().map(String),
      fc.double().map(String),
      fc.date({ noInvalidDate: true }).map(date => date.toISOString()),
      fc.string(),
      fc.uuid(),
      fc.json(),
    )
    fc.assert(
      fc.property(fc.array(some, { minLength: 1, maxLength: 8 }), texts => {
        const type = inferType(texts)
        for (const text of texts) {
          const canonical = canonicalOf(text, type)
          expect(canonical).toBeDefined()
          // What is printed of a zoned time is in UTC, and so once more.
          expect(canonicalOf(canonical!, type)).toBe(canonical)
        }
      }),
    )
  })
})

describe('canonical text', () => {
  const zoned: LogicalType = { kind: 'timestamp', zoned: true }
  const int8: LogicalType = { kind: 'int', bits: 8, signed: true }
  const money: LogicalType = { kind: 'decimal', precision: 6, scale: 2 }
  test.each([
    ['2026-03-09T01:00:00+05:30', zoned, '2026-03-08 19:30:00+00'],
    ['2024-02-29 23:59:59.123450-01', zoned, '2024-03-01 00:59:59.12345+00'],
    ['2026-03-09T01:00:00', zoned, undefined],
    ['127', int8, '127'],
    ['128', int8, undefined],
    ['+0012', int8, '12'],
    ['1234.50', money, '1234.5'],
    ['-0.00', money, '0'],
    ['12345', money, undefined],
    ['1.234', money, undefined],
    ['', { kind: 'utf8' }, ''],
    ['nothing', { kind: 'date' }, undefined],
  ] as [string, LogicalType, string | undefined][])('%s', (text, type, expected) => {
    expect(canonicalOf(text, type)).toBe(expected)
  })
})
