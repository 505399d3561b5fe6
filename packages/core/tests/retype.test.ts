import { describe, expect, test } from '@jest/globals'
import fc from 'fast-check'
import { NoValue } from '@tide/core/expression/values'
import { TYPE_NAMES, typeNamed } from '@tide/core/records/type-name'
import { printType, type LogicalType } from '@tide/core/records/types'
import { cutTo, mayExceed } from '@tide/core/shape/limit'
import { keepsKeysApart, retypingOf } from '@tide/core/shape/retype'

const TEXT: LogicalType = { kind: 'utf8' }
const DATE: LogicalType = { kind: 'date' }
const [LOCAL, ZONED]: LogicalType[] = [
  { kind: 'timestamp', zoned: false },
  { kind: 'timestamp', zoned: true },
] as [LogicalType, LogicalType]
const int = (bits: 8 | 16 | 32 | 64, signed = true): LogicalType => ({ kind: 'int', bits, signed })
const decimal = (precision: number, scale: number): LogicalType => ({ kind: 'decimal', precision, scale })

/** The value, or that there is none. */
function retyped(from: LogicalType, to: LogicalType, text: string): string | null {
  try {
    return retypingOf(from, to)!(text)
  } catch (thrown) {
    if (thrown instanceof NoValue) return null
    throw thrown
  }
}

const types = fc.constantFrom(...TYPE_NAMES.map(name => typeNamed(name)!), decimal(9, 2), decimal(38, 10))

describe('a value in another type', () => {
  test.each<[LogicalType, LogicalType, string, string | null]>([
    [TEXT, int(32), ' 007 ', '7'],
    [TEXT, int(32), '7.0', '7'],
    [TEXT, int(32), '7.5', null],
    [TEXT, int(32), '', null],
    [TEXT, int(32), '1e3', null],
    [TEXT, int(8), '128', null],
    [TEXT, int(8, false), '-1', null],
    [TEXT, decimal(4, 2), '12.30', '12.30'],
    [TEXT, decimal(4, 2), '12.345', null],
    [TEXT, decimal(4, 2), '123', null],
    [{ kind: 'decimal' }, int(64), 'NaN', null],
    [{ kind: 'float', bits: 64 }, decimal(38, 10), '0.1', '0.1000000000'],
    [{ kind: 'float', bits: 64 }, decimal(9, 2), 'Infinity', null],
    [{ kind: 'float', bits: 64 }, int(64), '1e+21', null],
    [TEXT, { kind: 'float', bits: 64 }, 'NaN', 'NaN'],
    [TEXT, { kind: 'float', bits: 64 }, 'many', null],
    [TEXT, { kind: 'bool' }, 'Yes', 't'],
    [TEXT, { kind: 'bool' }, 'constructor', null],
    [int(16), { kind: 'bool' }, '2', null],
    [TEXT, DATE, '2028-02-29', '2028-02-29'],
    [TEXT, DATE, '2026-02-29', null],
    [TEXT, DATE, '31.12.2026', null],
    [LOCAL, DATE, '2026-11-29 00:00:00', '2026-11-29'],
    [LOCAL, DATE, '2026-11-29 00:00:01', null],
    [LOCAL, DATE, 'infinity', null],
    [DATE, ZONED, '2026-11-29', '2026-11-29 00:00:00+00'],
    [ZONED, LOCAL, '2026-11-29 10:00:00.25+00', '2026-11-29 10:00:00.25'],
    [TEXT, ZONED, '2026-11-29 24:00:00', null],
    [TEXT, { kind: 'uuid' }, 'A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11', 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'],
    [TEXT, { kind: 'uuid' }, 'a0eebc99', null],
    [TEXT, { kind: 'json' }, '{"a": 1}', '{"a": 1}'],
    [TEXT, { kind: 'json' }, '{a: 1}', null],
  ])('%j as %j: %s → %s', (from, to, text, wanted) => {
    expect(retyped(from, to, text)).toBe(wanted)
  })

  test('is the same number, or there is none', () => {
    const numbers = fc.oneof(
      fc.bigInt({ min: -(2n ** 70n), max: 2n ** 70n }).map(value => [value, 0] as const),
      fc.tuple(fc.bigInt({ min: -(10n ** 12n), max: 10n ** 12n }), fc.nat(6)),
    )
    fc.assert(
      fc.property(numbers, types, ([unscaled, scale], to) => {
        fc.pre(to.kind === 'int' || to.kind === 'decimal')
        const digits = String(unscaled < 0n ? -unscaled : unscaled).padStart(scale + 1, '0')
        const text = `${unscaled < 0n ? '-' : ''}${scale ? `${digits.slice(0, -scale)}.${digits.slice(-scale)}` : digits}`
        const becomes = retyped({ kind: 'decimal' }, to, text)
        const places = to.kind === 'int' ? 0 : to.scale!
        const exact = unscaled * 10n ** BigInt(Math.max(0, places - scale))
        const by = 10n ** BigInt(Math.max(0, scale - places))
        const isSame = exact % by === 0n
        const value = exact / by
        const [least, most] =
          to.kind === 'decimal'
            ? [-(10n ** BigInt(to.precision!)) + 1n, 10n ** BigInt(to.precision!) - 1n]
            : to.signed
              ? [-(2n ** BigInt(to.bits - 1)), 2n ** BigInt(to.bits - 1) - 1n]
              : [0n, 2n ** BigInt(to.bits) - 1n]
        if (!isSame || value < least || value > most) expect(becomes).toBeNull()
        else expect(BigInt(becomes!.replace('.', ''))).toBe(value)
      }),
    )
  })

  test('what a type prints is read as itself again, by way of text', () => {
    const values = fc.oneof(
      fc.tuple(fc.constant(int(64)), fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }).map(String)),
      fc.tuple(
        fc.constant(DATE),
        fc
          .date({ min: new Date('0001-01-01'), max: new Date('9999-12-31'), noInvalidDate: true })
          .map(date => date.toISOString().slice(0, 10)),
      ),
      fc.tuple(fc.constant<LogicalType>({ kind: 'uuid' }), fc.uuid()),
      fc.tuple(fc.constant<LogicalType>({ kind: 'json' }), fc.json()),
    )
    fc.assert(
      fc.property(values, ([type, text]) => {
        expect(retyped(TEXT, type, retyped(type, TEXT, text)!)).toBe(text)
      }),
    )
  })

  test('keys stay apart where it is said that they do', () => {
    fc.assert(
      fc.property(
        types,
        types,
        fc.bigInt({ min: -200n, max: 200n }),
        fc.bigInt({ min: -200n, max: 200n }),
        (from, to, a, b) => {
          fc.pre(from.kind === 'int' && keepsKeysApart(from, to) && a !== b)
          const [left, right] = [a, b].map(value => retyped(from, to, String(value)))
          if (left !== null) expect(left).not.toBe(right)
        },
      ),
    )
  })

  test('every type is found by its name, and no other is', () => {
    fc.assert(fc.property(types, type => expect(typeNamed(printType(type))).toEqual(type)))
    for (const name of ['', 'varchar', 'decimal(39,2)', 'decimal(2,3)', 'decimal(0,0)', 'int128'])
      expect(typeNamed(name)).toBeUndefined()
  })
})

describe('a value that is too large', () => {
  test('is cut behind its last whole character', () => {
    const text = fc.string({ unit: 'grapheme', maxLength: 40 })
    fc.assert(
      fc.property(text, fc.integer({ min: 1, max: 60 }), (text, bytes) => {
        const cut = cutTo(text, bytes, TEXT)
        const whole = Buffer.from(text)
        expect(text.startsWith(cut)).toBe(true)
        expect(Buffer.byteLength(cut)).toBeLessThanOrEqual(bytes)
        if (whole.length <= bytes) expect(cut).toBe(text)
        else expect(Buffer.byteLength(cut)).toBeGreaterThan(bytes - 4)
        expect(Buffer.from(cut).toString()).toBe(cut)
      }),
    )
  })

  test('binary data are cut by what they stand for', () => {
    expect(cutTo('\\x0102ff', 2, { kind: 'binary' })).toBe('\\x0102')
    expect(cutTo('\\x0102', 2, { kind: 'binary' })).toBe('\\x0102')
  })

  test.each<[LogicalType, string, number, boolean]>([
    [TEXT, 'text', 1000, true],
    [TEXT, 'character varying(20)', 80, false],
    [TEXT, 'character varying(20)', 79, true],
    [TEXT, "enum('a','b')", 1, false],
    [{ kind: 'binary' }, 'varbinary(20)', 20, false],
    [int(32), 'integer', 1, false],
  ])('%j %s, %i bytes: %s', (type, native, bytes, exceeds) => {
    expect(mayExceed(type, native, bytes)).toBe(exceeds)
  })
})
