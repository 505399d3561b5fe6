import { expect, test } from '@jest/globals'
import { outlineOf, planDifference } from '@tide/core/plan/difference'
import type { Lane } from '@tide/core/plan/lane'
import type { Plan } from '@tide/core/plan/plan'

const id = (name: string, nativeType: string) => ({
  name,
  type: { kind: 'int', bits: 32, signed: true } as const,
  nativeType,
  nullable: false,
})
const lane = (name: string, part: Partial<Lane> = {}): Lane => ({
  source: { namespace: 'nursery', name },
  target: { namespace: 'growers', name },
  reads: [id('id', 'integer')],
  identity: ['id'],
  writes: [{ ...id('id', 'INTEGER'), value: { from: 'column', column: 'id' } }],
  key: ['id'],
  scope: null,
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
  const reads = [id('id', 'bigint'), id('area', 'integer')]
  const columns = [id('id', 'BIGINT')]
  const table = { namespace: 'growers', name: 'beds' }
  expect(
    difference({
      lanes: [lane('beds', { reads, identity: ['area'] }), lane('trays')],
      steps: [{ step: 'replace table', table, columns, key: ['area'] }],
      notes: [{ level: 'loss', message: '7 rows go', remedy: '', section: 'to', tables: [table] }],
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
