import { describe, expect, test } from '@jest/globals'
import type { LogicalType } from '@tide/core/records/types'
import type { Condition } from '@tide/core/scope/condition'
import { predicateAsOf } from '@tide/core/scope/predicate'
import { asOf, moved, moves } from '@tide/core/scope/relative'
import fc from 'fast-check'

const ZONED: LogicalType = { kind: 'timestamp', zoned: true }
const LOCAL: LogicalType = { kind: 'timestamp', zoned: false }
const DATE: LogicalType = { kind: 'date' }
const column = (type: LogicalType) => [{ name: 'at', type, nullable: true }]
const at = (value: string): Condition => ({ column: 'at', op: 'is at least', value })
const NOW = '2026-03-31T10:20:30.500Z'

describe('a date that stands for a distance from now', () => {
  test.each<[string, LogicalType, string]>([
    ['now', ZONED, '2026-03-31 10:20:30.500+00'],
    ['now - 90 seconds', LOCAL, '2026-03-31 10:19:00.500'],
    ['Today', LOCAL, '2026-03-31 00:00:00.000'],
    ['today - 1 week', DATE, '2026-03-24'],
    ['today+2 days', DATE, '2026-04-02'],
    ['now - 1 day', DATE, '2026-03-30 10:20:30.500'],
    // A month without such a day ends with its last.
    ['today - 1 month', DATE, '2026-02-28'],
    ['today + 11 months', DATE, '2027-02-28'],
    ['today - 2 years', DATE, '2024-03-31'],
    ['now - 999999 years', LOCAL, '1000-01-01 00:00:00.000'],
    ['today + 999999 years', DATE, '9999-12-31'],
    // Anything else is what it says.
    ['now - many days', LOCAL, 'now - many days'],
    ['2026-01-01', DATE, '2026-01-01'],
    ['now', { kind: 'utf8' }, 'now'],
  ])('%s as %j is %s', (value, type, moment) => {
    expect(asOf(at(value), column(type), NOW)).toEqual(at(moment))
  })

  test('says how often it is to be looked for what has moved', () => {
    const every = (value: string, type: LogicalType = LOCAL) => moves({ any: [at(value)] }, column(type))
    expect(
      ['now - 5 seconds', 'now - 5 minutes', 'now - 5 days', 'today', '2026-01-01'].map(value =>
        every(value),
      ),
    ).toEqual([1, 10, 60, 60, undefined])
    expect(every('now', { kind: 'utf8' })).toBeUndefined()
  })

  const moments = fc
    .date({ min: new Date('2026-01-01'), max: new Date('2026-04-30'), noInvalidDate: true })
    .map(date => date.toISOString())
  const values = fc.oneof(
    fc
      .tuple(
        fc.constantFrom('now', 'today'),
        fc.constantFrom('+', '-'),
        fc.nat(40),
        fc.constantFrom('hours', 'days', 'weeks', 'months'),
      )
      .map(([from, sign, count, unit]) => `${from} ${sign} ${count} ${unit}`),
    fc.constant('2026-02-15'),
  )
  const { tree } = fc.letrec<{ tree: Condition }>(tie => ({
    tree: fc.oneof(
      { maxDepth: 3 },
      fc
        .tuple(
          fc.constantFrom(
            'equals',
            'differs from',
            'is less than',
            'is at most',
            'is more than',
            'is at least',
          ),
          values,
        )
        .map(([op, value]) => ({ column: 'at', op, value }) as Condition),
      fc.array(values, { minLength: 1, maxLength: 2 }).map((list): Condition => ({ column: 'at', in: list })),
      fc.array(tie('tree'), { maxLength: 3 }).map((all): Condition => ({ all })),
      fc.array(tie('tree'), { maxLength: 3 }).map((any): Condition => ({ any })),
      tie('tree').map((not): Condition => ({ not })),
    ),
  }))

  test.each([DATE, LOCAL, ZONED])(
    'every row that time moves is among those that are looked for: %j',
    type => {
      fc.assert(
        fc.property(
          tree,
          moments,
          moments,
          fc.array(moments, { minLength: 5, maxLength: 20 }),
          (condition, a, b, rows) => {
            const [from, to] = a < b ? [a, b] : [b, a]
            const scope = predicateAsOf(condition, column(type))
            const where = moved(condition, column(type), from, to)
            for (const row of rows) {
              const text = type.kind === 'date' ? row.slice(0, 10) : row.slice(0, -1).replace('T', ' ')
              const [before, after] = [from, to].map(now => scope(now).test([text]))
              if (before === after) continue
              expect([text, where && predicateAsOf(where, column(type))(to).test([text])]).toEqual([
                text,
                true,
              ])
            }
          },
        ),
        { numRuns: 2000 },
      )
    },
  )
})
