import { describe, expect, test } from '@jest/globals'
import type { Column } from '@tide/core/records/column'
import { asCondition, asExpression } from '@tide/core/scope/as-expression'
import type { Condition } from '@tide/core/scope/condition'
import { predicateOf } from '@tide/core/scope/predicate'
import fc from 'fast-check'

const columns: Column[] = [
  { name: 'stage', type: { kind: 'utf8' }, nativeType: '', nullable: true },
  { name: 'bed no.', type: { kind: 'int', bits: 32, signed: true }, nativeType: '', nullable: false },
  { name: 'price', type: { kind: 'decimal', precision: 8, scale: 2 }, nativeType: '', nullable: true },
  { name: 'paid', type: { kind: 'bool' }, nativeType: '', nullable: true },
  { name: 'sown', type: { kind: 'date' }, nativeType: '', nullable: true },
  { name: 'at', type: { kind: 'timestamp', zoned: true }, nativeType: '', nullable: true },
  { name: 'meta', type: { kind: 'timestamp', zoned: false }, nativeType: '', nullable: false },
]
const VALUES: Record<string, fc.Arbitrary<string>> = {
  stage: fc.constantFrom('', 'sold', 'so', 'a"b', '\\', 'ä', '\n', 'row'),
  'bed no.': fc.integer({ min: -3, max: 3 }).map(String),
  price: fc.constantFrom('1.50', '-2.00', '0.00', '7'),
  paid: fc.constantFrom('t', 'f'),
  sown: fc.constantFrom('2026-03-01', '2026-11-28', '1999-12-31'),
  at: fc.constantFrom('2026-03-01 10:00:00+00', '2026-03-01 10:00:00.5+00'),
  meta: fc.constantFrom('2026-03-01 10:00:00', '2026-11-28 00:00:00'),
}
const leaf = fc.constantFrom(...columns).chain(({ name, type }) => {
  const value = VALUES[name]!
  const ordered =
    type.kind === 'bool' ? [] : (['is less than', 'is at most', 'is more than', 'is at least'] as const)
  const texts = type.kind === 'utf8' ? (['starts with', 'contains'] as const) : []
  return fc.oneof(
    fc
      .tuple(fc.constantFrom('equals' as const, 'differs from' as const, ...ordered, ...texts), value)
      .map(([op, value]): Condition => ({ column: name, op, value })),
    fc.boolean().map((isNull): Condition => ({ column: name, isNull })),
    fc.array(value, { minLength: 1, maxLength: 3 }).map((list): Condition => ({ column: name, in: list })),
  )
})
const tree = fc.letrec<{ tree: Condition }>(tie => ({
  tree: fc.oneof(
    { maxDepth: 3 },
    leaf,
    fc.array(tie('tree'), { maxLength: 3 }).map((all): Condition => ({ all })),
    fc.array(tie('tree'), { maxLength: 3 }).map((any): Condition => ({ any })),
    tie('tree').map((not): Condition => ({ not })),
  ),
})).tree
const rows = fc.array(
  fc.tuple(
    ...columns.map(({ name, nullable }) =>
      nullable ? fc.option(VALUES[name]!, { freq: 3 }) : VALUES[name]!,
    ),
  ),
  { minLength: 4, maxLength: 12 },
)

function takesPart(condition: Condition, all: readonly (string | null)[][]): boolean[] {
  const predicate = predicateOf(condition, columns)
  if ('message' in predicate) throw new Error(`${JSON.stringify(condition)}: ${predicate.message}`)
  return all.map(row => predicate.test(row) === true)
}

describe('a condition and its expression', () => {
  test('take in the same rows, whatever is null', () => {
    fc.assert(
      fc.property(tree, rows, (condition, all) => {
        const expression = asExpression(condition, columns)!
        if (expression.length > 2000) return
        expect(takesPart({ expression }, all)).toEqual(takesPart(condition, all))
      }),
      { numRuns: 2000 },
    )
  })

  test('come back as conditions that take in the same rows', () => {
    let back = 0
    fc.assert(
      fc.property(tree, rows, (condition, all) => {
        const expression = asExpression(condition, columns)!
        const again = expression.length > 2000 ? undefined : asCondition(expression, columns)
        if (!again) return
        back++
        expect(takesPart(again, all)).toEqual(takesPart(condition, all))
      }),
      { numRuns: 2000 },
    )
    expect(back).toBeGreaterThan(800)
  })

  test('a list of conditions comes back as it was', () => {
    const list: Condition = {
      all: [
        { column: 'stage', op: 'equals', value: 'a"b' },
        { column: 'bed no.', op: 'is more than', value: '-3' },
        { column: 'sown', op: 'is at least', value: '2026-03-01' },
        { column: 'price', isNull: true },
        { column: 'paid', op: 'equals', value: 'true' },
        { column: 'at', op: 'is less than', value: '2026-03-01 10:00:00' },
        { column: 'stage', op: 'starts with', value: 'a' },
        { column: 'bed no.', in: ['1', '-2'] },
      ],
    }
    expect(asCondition(asExpression(list, columns)!, columns)).toEqual(list)
  })

  test.each([
    'price * 2 > 3',
    'stage == upper("a")',
    '!(has(stage) && stage == "a")',
    'stage ==',
    'colour == "a"',
    'price > 1.5e3',
    '`stage` == "a"',
  ])('%s is no condition', text => {
    expect(asCondition(text, columns)).toBeUndefined()
  })

  test('what expressions do not know stays a condition', () => {
    expect(asExpression({ column: 'at', op: 'is at least', value: 'now - 3 days' }, columns)).toBeUndefined()
    expect(asExpression({ column: 'colour', isNull: true }, columns)).toBeUndefined()
  })
})
