import { expect, test } from '@jest/globals'
import fc from 'fast-check'
import type { TwoWayRule } from '../src/definition/two-way.ts'
import { lossesOf } from '../src/two-way/losses.ts'
import { field } from './app-field.ts'

const moment = field('at', { type: { kind: 'timestamp', zoned: true } })
const day = field('on', { type: { kind: 'date' } })
const number = field('price', { type: { kind: 'decimal' } })
const whole = field('count', { type: { kind: 'int', bits: 64, signed: true } })

test('a value is touched where what the other side keeps of it is another value', () => {
  const [time] = lossesOf({ direction: 'both' }, { a: moment, b: day })
  expect(time).toMatchObject({ into: 'b', what: 'loses the time of day' })
  for (const kept of ['2026-03-01', '2026-03-01T00:00:00Z', '2026-03-01T00:00:00.000+00:00', null])
    expect([kept, time!.touches(kept)]).toEqual([kept, false])
  for (const lost of ['2026-03-01T00:00:01Z', '2026-03-01 10:00:00', '2026-03-01T00:00:00.001Z'])
    expect([lost, time!.touches(lost)]).toEqual([lost, true])
  const [short] = lossesOf({ direction: 'both' }, { a: field('a'), b: field('b', { maxLength: 3 }) })
  fc.assert(
    fc.property(fc.string({ unit: 'grapheme' }), text => {
      expect(short!.touches(text)).toBe([...text].length > 3)
    }),
  )
  const [rounded] = lossesOf({ direction: 'both' }, { a: number, b: whole })
  fc.assert(
    fc.property(fc.integer(), fc.integer({ min: 0, max: 99 }), (n, cents) => {
      expect(rounded!.touches(`${n}.${String(cents).padStart(2, '0')}`)).toBe(cents !== 0)
    }),
  )
})

test('nothing is lost where nothing goes, where a rule says what becomes of it, or between like fields', () => {
  expect(lossesOf({ direction: 'b to a' }, { a: moment, b: day })).toEqual([])
  expect(lossesOf({ direction: 'a to b' }, { a: moment, b: day })).toHaveLength(1)
  expect(lossesOf({ direction: 'both' }, { a: whole, b: whole })).toEqual([])
  const held: TwoWayRule = { as: 'mapped', map: { pairs: [], others: 'held' } }
  expect(lossesOf({ direction: 'both', rule: held }, { a: moment, b: day })).toEqual([])
})
