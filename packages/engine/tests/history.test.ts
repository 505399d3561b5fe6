import { expect, test } from '@jest/globals'
import type { Lane } from '@tide/core/plan/lane'
import { packRow, RowPack, unpackRow } from '@tide/core/records/tuple'
import { laneHistory } from '../src/shapes/replicate/history.ts'

const column = (name: string) => ({
  name,
  type: { kind: 'utf8' as const },
  nativeType: 'text',
  nullable: true,
})
const reads = ['id', 'open', 'note'].map(column)
const lane: Lane = {
  source: { namespace: 's', name: 't' },
  target: { namespace: 's', name: 't' },
  reads,
  identity: ['id'],
  writes: reads.map(one => ({ ...one, value: { from: 'column', column: one.name } })),
  key: ['id'],
  scope: { column: 'open', op: 'equals', value: 't' },
  history: {
    table: { namespace: 's', name: 't_history' },
    columns: [
      { ...column('operation'), value: { from: 'operation' } },
      { ...column('not_told'), value: { from: 'not told' } },
      { ...column('before_note'), value: { from: 'before', column: 'note' } },
      { ...column('after_id'), value: { from: 'after', column: 'id' } },
      { ...column('after_note'), value: { from: 'after', column: 'note' } },
    ],
  },
  rows: 0,
  rowsExact: true,
  bytes: 0,
}

test('of a row of which it is not sent whether it takes part, no more than the key is told', () => {
  const history = laneHistory(lane, { origin: '', hash: text => text })!
  const after = packRow(['1', undefined, 'hidden, for all we know'])
  const event = { lane: 0, number: 0, op: 'update' as const, before: after, after }
  const transaction = { id: '7', start: '0/1', at: '2026-03-01T12:00:00.000000Z', events: [event] }
  const row = history.row(event, transaction, '2026-03-01T12:00:01.000Z', new RowPack())!
  expect(unpackRow(row)).toEqual(['update', 'before, after_note', null, '1', null])
})
