import { expect, test } from '@jest/globals'
import { outlineOf, planDifference } from '@tide/core/plan/difference'
import type { Lane, Plan } from '@tide/core/plan/plan'

const lane = (name: string, part: Partial<Lane> = {}): Lane => ({
  source: { namespace: 'nursery', name },
  target: { namespace: 'growers', name },
  columns: [
    {
      source: 'id',
      target: 'id',
      type: { kind: 'int', bits: 32, signed: true },
      nativeType: 'integer',
      targetType: 'INTEGER',
      nullable: false,
    },
  ],
  key: ['id'],
  rows: 5,
  rowsExact: true,
  bytes: 100,
  ...part,
})
const plan = (part: Partial<Plan> = {}): Plan => ({
  lanes: [lane('beds')],
  steps: [{ step: 'create table', table: { namespace: 'growers', name: 'beds' }, columns: [], key: ['id'] }],
  notes: [],
  rows: 5,
  bytes: 100,
  ...part,
})
const difference = (now: Partial<Plan>) => planDifference(outlineOf(plan()), outlineOf(plan(now)))

test('rows that came meanwhile make no other plan; warnings neither', () => {
  const notes = [{ level: 'warning' as const, message: 'slow', remedy: 'wait', section: 'to' as const }]
  expect(
    difference({ lanes: [lane('beds', { rows: 9, bytes: 1, rowsExact: false })], notes, rows: 9 }),
  ).toEqual([])
})

test('what would be done otherwise is told, thing by thing', () => {
  const [id] = lane('beds').columns
  const columns = [
    { ...id!, nativeType: 'bigint', targetType: 'BIGINT' },
    { ...id!, source: 'area' },
  ]
  const table = { namespace: 'growers', name: 'beds' }
  expect(
    difference({
      lanes: [lane('beds', { columns, key: ['area'] }), lane('trays')],
      steps: [{ step: 'replace table', table, columns, key: ['area'] }],
      notes: [{ level: 'loss', message: '7 rows go', remedy: '', section: 'to', table }],
    }),
  ).toEqual([
    'The key of nursery.beds is area instead of id.',
    'nursery.beds.id is bigint instead of integer.',
    'nursery.beds has a new column area.',
    'nursery.trays has come to it.',
    'It would replace the table growers.beds.',
    'Something is lost about growers.beds that was not.',
  ])
  expect(difference({ lanes: [] })).toEqual(['nursery.beds is no longer in it.'])
})
