import { expect, test } from '@jest/globals'
import { checkpointOf, checkpointRow, type Checkpoint } from '@tide/core/checkpoint/checkpoint'
import { upgradeDefinition } from '@tide/core/definition/definition'
import { upgradeLanes, upgradeSteps } from '@tide/core/definition/started-plan'

const position = (at: string) => ({ kind: 'postgres log', incarnation: '7712376486464748206/1', at })
const lane = {
  begun: true,
  copied: true,
  copiedRows: 20,
  copiedUpTo: null,
  since: position('0/1539670'),
  inserted: 1,
  updated: 4,
  deleted: 1,
  lastChange: '2026-11-26T07:19:50.787369Z',
}

test('a checkpoint of the first version, as its target keeps it, is one of a single stream', () => {
  const row = {
    epoch: '2',
    position: JSON.stringify(position('0/1555338')),
    completeUpTo: '2026-11-26T07:20:01.001000Z',
    lanes: JSON.stringify([lane, { ...lane, own: position('0/1') }]),
    consistent: true,
  }
  expect(checkpointOf('p', row)).toEqual({
    pipeline: 'p',
    epoch: 2,
    streams: [
      {
        origin: '',
        position: position('0/1555338'),
        completeUpTo: row.completeUpTo,
        consistent: true,
        lanes: [lane, { ...lane, own: position('0/1') }],
      },
    ],
  })
})

test('a checkpoint is read as it was written; what anybody’s SQL reads is the least of its streams', () => {
  const stream = (origin: string, completeUpTo: string, consistent: boolean) => ({
    origin,
    position: position('0/20'),
    completeUpTo,
    consistent,
    lanes: [lane],
  })
  const checkpoint: Checkpoint = {
    pipeline: 'p',
    epoch: 7,
    streams: [
      stream('north', '2026-11-26T07:20:01.000000Z', true),
      stream('south', '2026-11-26T07:19:01.000000Z', false),
    ],
  }
  const row = checkpointRow(checkpoint)
  expect(row).toMatchObject({ completeUpTo: '2026-11-26T07:19:01.000000Z', consistent: false })
  expect(checkpointOf('p', row)).toEqual(checkpoint)
})

test.each([
  ['of a later version', JSON.stringify({ version: 3, streams: [] })],
  ['of no streams', JSON.stringify({ version: 2, streams: [] })],
  ['whose lanes are something else', JSON.stringify([{ begun: 'yes' }])],
  ['that is no JSON', 'SELECT 1'],
])('a checkpoint %s is refused, and nothing is begun anew over it', (_, lanes) => {
  const row = { epoch: '1', position: '{}', completeUpTo: '2026-11-26T07:20:01Z', lanes, consistent: true }
  expect(() => checkpointOf('p', row)).toThrow('cannot be read')
})

test('a definition that names no shape, or one that nobody knows, is refused', () => {
  const first = { version: 1, name: 'x', from: '', to: '', targetSchema: '', tables: [] }
  expect(upgradeDefinition(first)).toEqual({
    shape: 'replicate',
    definition: { ...first, version: 2, shape: 'replicate' },
  })
  for (const stored of [undefined, null, 'x', 7, [], { version: 2 }, { version: 2, shape: 'constructor' }])
    expect(() => upgradeDefinition(stored)).toThrow(/shape/)
})

test('a started plan that no version has stored is refused', () => {
  expect(upgradeLanes([])).toEqual([])
  expect(() => upgradeLanes([{ reads: [] }])).toThrow('cannot be read')
  expect(() => upgradeSteps([{ step: 'drop everything' }])).toThrow('cannot be read')
  const stepOf = (type: unknown) => ({
    step: 'create table',
    table: { namespace: 'NURSERY', name: 'SPECIES' },
    columns: [{ name: 'USES', type, nativeType: 'VARCHAR[]', nullable: true }],
    key: ['USES'],
  })
  const list = (of: unknown) => ({ kind: 'list', of })
  for (const type of [
    list({ kind: 'utf8' }),
    list(list({ kind: 'decimal' })),
    { kind: 'int', bits: 8, signed: true },
  ])
    expect(upgradeSteps([stepOf(type)])).toEqual([stepOf(type)])
  for (const type of [list({ kind: 'utf9' }), list(list(7)), { kind: 'int', bits: 9, signed: true }, {}])
    expect(() => upgradeSteps([stepOf(type)])).toThrow('cannot be read')
})
