import { describe, expect, test } from '@jest/globals'
import type { Lane, WrittenColumn } from '@tide/core/plan/lane'
import type { LogicalType } from '@tide/core/records/types'
import { duckdbHolds } from '@tide/core/shape/duckdb-holds'
import { mariadbHolds } from '@tide/core/shape/mariadb-holds'
import { LaneRehearsal } from '@tide/core/shape/rehearsal'

const TEXT: LogicalType = { kind: 'utf8' }
const INT: LogicalType = { kind: 'int', bits: 32, signed: true }

const read = (name: string, type: LogicalType) => ({ name, type, nativeType: '', nullable: true })
const written = (
  name: string,
  value: WrittenColumn['value'],
  part: Partial<WrittenColumn> = {},
): WrittenColumn => ({
  name,
  value,
  type: TEXT,
  nativeType: 'varchar(4)',
  nullable: true,
  ...part,
})

const lane: Lane = {
  source: { namespace: 's', name: 'beds' },
  target: { namespace: 't', name: 'beds' },
  reads: [read('id', INT), read('label', TEXT), read('n', TEXT)],
  identity: ['id'],
  writes: [
    written('id', { from: 'column', column: 'id' }, { type: INT, nativeType: 'int' }),
    written('label', { from: 'column', column: 'label' }),
    written('n', { from: 'retyped', column: 'n' }, { type: INT, nativeType: 'int' }),
    written('start', { from: 'cut', column: 'label', bytes: 2 }),
    written('was cut', { from: 'was cut', column: 'label', bytes: 2 }, { type: { kind: 'bool' } }),
  ],
  key: ['id'],
  scope: { column: 'label', isNull: false },
  rows: 0,
  rowsExact: true,
  bytes: 0,
}

const rehearsed = (of: Lane, rows: (string | null)[][]) => {
  const rehearsal = new LaneRehearsal(of, { origin: '', hash: text => text }, mariadbHolds, '')
  for (const row of rows) rehearsal.add(row)
  return rehearsal.result
}

describe('a rehearsal with all rows', () => {
  test('counts what is in scope, what would be held, and what is cut', () => {
    expect(
      rehearsed(lane, [
        ['1', 'ab', '7'],
        ['2', null, 'not looked at'],
        ['3', 'abc', 'seven'],
        ['4', 'abcde', 'eight'],
      ]),
    ).toEqual({
      rows: 4,
      inScope: 3,
      held: 2,
      misfits: [
        {
          column: 'n',
          rows: 2,
          examples: [
            { key: ['3'], reason: '“seven” is no int32' },
            { key: ['4'], reason: '“eight” is no int32' },
          ],
        },
        {
          column: 'label',
          rows: 1,
          examples: [{ key: ['4'], reason: 'it is 5 characters long, and 4 is the most' }],
        },
      ],
      cut: [{ column: 'was cut', values: 2 }],
    })
  })

  test('tells a few examples of many', () => {
    const rows = Array.from({ length: 100 }, (_, i) => [String(i), 'x', 'none'])
    const [misfit] = rehearsed(lane, rows).misfits
    expect([misfit!.rows, misfit!.examples.length]).toEqual([100, 5])
  })

  test('a key that is masked or left out is not told', () => {
    const masked = written('id', { from: 'masked', column: 'id', how: { mask: 'hash' } })
    for (const writes of [[masked, ...lane.writes.slice(1)], lane.writes.slice(1)])
      expect(rehearsed({ ...lane, writes }, [['4711', 'x', 'none']]).misfits[0]!.examples).toEqual([
        { key: ['…'], reason: '“none” is no int32' },
      ])
  })

  test('a null that the column cannot be is held', () => {
    const writes = [
      ...lane.writes.slice(0, 1),
      written('label', { from: 'column', column: 'label' }, { nullable: false }),
    ]
    const { misfits } = rehearsed({ ...lane, writes, scope: null }, [['1', null, '1']])
    expect(misfits).toMatchObject([{ column: 'label', rows: 1 }])
  })

  test('a scope that has no value for a row holds it', () => {
    const scope = { expression: 'int(coalesce(n, "")) > 3' }
    const { inScope, held, misfits } = rehearsed({ ...lane, scope }, [['1', 'a', 'many']])
    expect([inScope, held, misfits[0]!.column]).toEqual([0, 1, 'its scope'])
  })
})

test.each<[typeof mariadbHolds, LogicalType, string, string, boolean]>([
  [mariadbHolds, { kind: 'float', bits: 64 }, 'double', 'NaN', false],
  [mariadbHolds, { kind: 'float', bits: 64 }, 'double', '1e300', true],
  [mariadbHolds, { kind: 'date' }, 'date', '0044-03-15 BC', false],
  [mariadbHolds, { kind: 'date' }, 'date', '10000-01-01', false],
  [mariadbHolds, { kind: 'timestamp', zoned: true }, 'datetime(6)', 'infinity', false],
  [mariadbHolds, { kind: 'timestamp', zoned: true }, 'datetime(6)', '2026-11-29 10:00:00+00', true],
  [mariadbHolds, TEXT, 'varchar(3) COLLATE utf8mb4_nopad_bin', '🌱🌱🌱', true],
  [mariadbHolds, TEXT, 'varchar(3) COLLATE utf8mb4_nopad_bin', 'four', false],
  [mariadbHolds, { kind: 'binary' }, 'varbinary(2)', '\\x0102', true],
  [mariadbHolds, { kind: 'binary' }, 'varbinary(2)', '\\x010203', false],
  [duckdbHolds, { kind: 'list', of: INT }, 'INTEGER[]', '{1,2}', true],
  [duckdbHolds, { kind: 'list', of: INT }, 'INTEGER[]', '{}', true],
  [duckdbHolds, { kind: 'list', of: INT }, 'INTEGER[]', '{{1},{2}}', false],
])('%p of %j as %s: %s fits: %s', (holdsOf, type, native, text, fits) => {
  expect(holdsOf(type, native)?.(text) === undefined).toBe(fits)
})
