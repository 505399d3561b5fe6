import { expect, test } from '@jest/globals'
import { parseBinlog, printBinlog } from '@tide/core/position/binlog'
import { parseLsn, printLsn } from '@tide/core/position/lsn'
import { findPositions, placeAsked } from '@tide/core/position/find'
import { comparePositions, compareWithin } from '@tide/core/position/order'
import { decodeRow, encodeRow, rowEnd } from '@tide/core/records/tuple'
import type { Value } from '@tide/core/records/value'
import { parseCursorPlace, printCursorPlace } from '../src/position/cursor.ts'
import fc from 'fast-check'

const lsn = fc.bigInt({ min: 0n, max: 2n ** 64n - 1n })

test('log sequence numbers are read as they are printed, and ordered as numbers', () => {
  expect(printLsn(parseLsn('16/B374D848'))).toBe('16/B374D848')
  fc.assert(
    fc.property(lsn, lsn, (a, b) => {
      expect(parseLsn(printLsn(a))).toBe(a)
      const order = a < b ? 'before' : a > b ? 'after' : 'same'
      expect(compareWithin('postgres log', printLsn(a), printLsn(b))).toBe(order)
    }),
  )
  for (const wrong of ['', '16', '16/', '16/B374D848X', '123456789/0'])
    expect(() => parseLsn(wrong)).toThrow('not a log sequence number')
})

test('places in a binary log are ordered by file and offset, whatever transaction is in force there', () => {
  const place = { file: 'binlog.000009', offset: 4242, gtid: '0-7-93', prepared: [] }
  expect(parseBinlog(printBinlog(place))).toEqual(place)
  expect(printBinlog({ ...place, gtid: '' })).toBe('binlog.000009:4242')
  const prepared = [
    { xid: '1.61.', file: 'binlog.000008', offset: 7 },
    { xid: '-1.ff.00', file: 'binlog.000009', offset: 4 },
  ]
  const within = { ...place, prepared }
  expect(printBinlog(within)).toBe(
    'binlog.000009:4242 0-7-93 xa 1.61.@binlog.000008:7 -1.ff.00@binlog.000009:4',
  )
  expect(parseBinlog(printBinlog(within))).toEqual(within)
  expect(compareWithin('binlog', printBinlog(within), 'binlog.000009:4242')).toBe('same')
  const order = (a: string, b: string) => compareWithin('binlog', a, b)
  expect(order('binlog.000009:4242 0-7-93', 'binlog.000010:4')).toBe('before')
  expect(order('binlog.1000000:4', 'binlog.999999:99')).toBe('after')
  expect(order('binlog.000009:4242 0-7-93', 'binlog.000009:4242')).toBe('same')
  expect(() => parseBinlog('binlog:4')).toThrow('not a place in a binary log')
})

test('positions of other incarnations and other kinds cannot be compared', () => {
  const position = { kind: 'postgres log', incarnation: '7/1', at: '0/10' }
  expect(comparePositions(position, { ...position, at: '0/20' })).toBe('before')
  expect(comparePositions(position, { ...position, incarnation: '7/2' })).toBe('unknown')
  expect(comparePositions(position, { ...position, kind: 'binlog' })).toBe('unknown')
  expect(compareWithin('postgres change table', '1:5:', '1:9:')).toBe('before')
  expect(compareWithin('postgres change table', '1:5: > 1:9: @3', '1:9:')).toBe('before')
})

test('a row is read from its bytes as it was, wherever it stands: nulls, what was not sent, any text', () => {
  const value = fc.oneof(
    fc.constantFrom<Value>(null, undefined, '', '\uFEFFmarked', 'x'.repeat(70_000)),
    fc.string({ unit: 'grapheme' }),
  )
  fc.assert(
    fc.property(fc.array(value), fc.integer({ min: 0, max: 9 }), (row, before) => {
      const bytes = new Uint8Array([...new Array<number>(before).fill(7), ...encodeRow(row), 7])
      expect(decodeRow(bytes, before)).toEqual(row)
      expect(rowEnd(bytes, before)).toBe(bytes.length - 1)
    }),
    { numRuns: 60 },
  )
})

test('places of a cursor are read as they were printed', () => {
  const time = fc.date({ noInvalidDate: true }).map(date => date.toISOString())
  const toward = fc.record({
    time,
    table: fc.nat(),
    row: fc.nat(),
    after: fc.option(fc.array(fc.string({ unit: 'grapheme' }), { minLength: 1 })),
  })
  fc.assert(
    fc.property(time, fc.option(toward, { nil: undefined }), (upTo, toward) => {
      const place = toward ? { upTo, toward } : { upTo }
      expect(parseCursorPlace(printCursorPlace(place))).toEqual(place)
    }),
  )
})

test('places of a cursor on the way of one reader are in one order', () => {
  const way = [
    '2026-11-20T10:00:00.000000Z',
    '2026-11-20T10:00:00.000000Z > 2026-11-20T10:05:00.000000Z table 0 row 2 after ["x","2"]',
    '2026-11-20T10:00:00.000000Z > 2026-11-20T10:05:00.000000Z table 0 row 10 after ["x","10"]',
    '2026-11-20T10:00:00.000000Z > 2026-11-20T10:05:00.000000Z table 1 row 1 after ["x","1"]',
    '2026-11-20T10:05:00.000000Z',
  ]
  way.forEach((one, i) =>
    way.forEach((other, j) =>
      expect(compareWithin('postgres cursor', one, other)).toBe(i < j ? 'before' : i > j ? 'after' : 'same'),
    ),
  )
  expect(parseCursorPlace(`${way[0]} > ${way[4]} table 1 after ["x"]`).toward).toMatchObject({ row: 0 })
})

test('positions are found in the text of logs and answers, and are those that were printed', () => {
  const printed: Record<string, fc.Arbitrary<string>> = {
    'postgres log': lsn.map(printLsn),
    binlog: fc
      .record({ file: fc.integer({ min: 1, max: 999_999 }), offset: fc.integer({ min: 4, max: 2 ** 40 }) })
      .map(({ file, offset }) => `mariadb-bin.${String(file).padStart(6, '0')}:${offset}`),
    'postgres change table': fc
      .tuple(fc.integer({ min: 500, max: 1e9 }), fc.nat(100), fc.boolean())
      .map(([xmin, more, open]) => `${xmin}:${xmin + more}:${open && more > 0 ? xmin : ''}`),
    'postgres cursor': fc
      .date({ min: new Date('2000-01-01'), max: new Date('2090-01-01'), noInvalidDate: true })
      .map(date => date.toISOString().replace('Z', '000Z')),
  }
  const around = fc.constantFrom(
    ['', ''],
    ['Changes are captured from ', ' on.'],
    ['alderbank: Rewound from ', '.'],
    ['\n | ', ' |\n'],
    ['2026-11-29 13:26:59 note (', ')'],
  )
  for (const [kind, position] of Object.entries(printed))
    fc.assert(
      fc.property(position, around, (at, [before, behind]) => {
        const found = findPositions(kind, `${before}${at}${behind}`)
        expect(found.map(one => compareWithin(kind, one, at))).toContain('same')
        // A clock in the line is a time of its own to a cursor.
        if (kind !== 'postgres cursor') expect(found).toEqual([at])
      }),
    )
  expect(findPositions('binlog', 'mariadb-bin.000003 | 4242 | nursery |')).toEqual([
    'mariadb-bin.000003:4242',
  ])
  expect(findPositions('binlog', 'binlog.000009:4242 0-7-93')).toEqual(['binlog.000009:4242 0-7-93'])
  expect(findPositions('postgres change table', '7:9:8 > 12:12: @5')).toEqual(['7:9:8 > 12:12: @5'])
  expect(findPositions('postgres cursor', 'at 2026-03-01 12:00:00.5+02 it')).toEqual([
    '2026-03-01T10:00:00.500000Z',
  ])
  for (const kind of Object.keys(printed))
    expect(findPositions(kind, 'nothing at 13:26:59, 1/2 of it')).toEqual(
      kind === 'postgres log' ? ['1/2'] : [],
    )
  expect(findPositions('of no kind', '0/1')).toEqual([])
  expect(placeAsked(' 2026-03-01T12:00:00Z ')).toEqual({ time: '2026-03-01T12:00:00Z' })
  expect(placeAsked('16/B374D848')).toEqual({ position: '16/B374D848' })
})
