import { expect, test } from '@jest/globals'
import type { ReplicateDefinition } from '@tide/core/definition/definition'
import type { PipelineRecord } from '@tide/core/definition/pipeline'
import type { Services } from '../src/services.ts'
import { tiesOf } from '../src/affinity.ts'

/** Connections by what their sessions have: a log, a file that is held alone, or neither. */
const CONNECTIONS: Record<string, { path?: string; log?: object; heldAlone?: string }> = {
  office: { log: {} },
  'office by triggers': {},
  warehouse: { path: '/data/warehouse.duckdb', heldAlone: 'the file /data/warehouse.duckdb' },
  'warehouse, too': { path: '/data/warehouse.duckdb', heldAlone: 'the file /data/warehouse.duckdb' },
  'other file': { path: '/data/other.duckdb', heldAlone: 'the file /data/other.duckdb' },
  server: { path: 'server:5432' },
}

interface Other {
  from: string
  to: string
  home: string | null
  stopped?: 'person' | 'structural'
}

/** What a pipeline is tied to on the engine `here`, beside others. */
function tie(from: string, to: string, ...others: Other[]) {
  const list = others.map(
    ({ from, to, home, stopped }, n) =>
      ({
        id: `other ${n}`,
        of: null,
        origins: [],
        definition: { from, to },
        home,
        reason: stopped ? { kind: stopped } : null,
      }) as unknown as PipelineRecord,
  )
  const records = Object.entries(CONNECTIONS).map(([id, { path }]) => ({
    id,
    name: id,
    kind: 'any',
    config: { path },
  }))
  const services = {
    home: 'here',
    sessions: { use: async (id: string, body: (session: unknown) => unknown) => body(CONNECTIONS[id]) },
    store: {
      connections: {
        list: async () => records,
        get: async (id: string) => records.find(record => record.id === id),
      },
      pipelines: { list: async () => list },
    },
    connector: () => ({ identity: ({ path }: { path?: string }) => path ?? '' }),
  } as unknown as Services
  return tiesOf(services, 'this', { from, to } as ReplicateDefinition).then(([only]) => only)
}

test.each<[string, Promise<unknown>, unknown]>([
  ['between servers, by triggers: to nothing', tie('office by triggers', 'server'), null],
  [
    'by its log: to the journal, here',
    tie('office', 'server'),
    { home: 'here', affinity: 'the journal of office' },
  ],
  [
    'into a file: to the file',
    tie('office by triggers', 'warehouse'),
    { home: 'here', affinity: 'the file /data/warehouse.duckdb' },
  ],
  [
    'both: to both',
    tie('office', 'warehouse'),
    { home: 'here', affinity: 'the journal of office and the file /data/warehouse.duckdb' },
  ],
  [
    'where another has the journal already',
    tie('office', 'server', { from: 'office', to: 'other file', home: 'there' }),
    { home: 'there', affinity: 'the journal of office' },
  ],
  [
    'where another has the file, through another connection',
    tie('office by triggers', 'warehouse', { from: 'server', to: 'warehouse, too', home: 'there' }),
    { home: 'there', affinity: 'the file /data/warehouse.duckdb' },
  ],
  [
    'not where a person has stopped the other',
    tie('office', 'server', { from: 'office', to: 'server', home: 'there', stopped: 'person' }),
    { home: 'here', affinity: 'the journal of office' },
  ],
  [
    'but where the other stopped for a reason: its place in the journal is kept',
    tie('office', 'server', { from: 'office', to: 'server', home: 'there', stopped: 'structural' }),
    { home: 'there', affinity: 'the journal of office' },
  ],
  [
    'whatever runs elsewhere between others',
    tie('office', 'warehouse', { from: 'server', to: 'other file', home: 'there' }),
    { home: 'here', affinity: 'the journal of office and the file /data/warehouse.duckdb' },
  ],
])('tied %s', async (_, found, wanted) => {
  expect(await found).toEqual(wanted)
})

test('what two engines hold cannot be joined', async () => {
  const others: Other[] = [
    { from: 'office', to: 'server', home: 'one' },
    { from: 'office by triggers', to: 'warehouse', home: 'two' },
  ]
  await expect(tie('office', 'warehouse', ...others)).rejects.toMatchObject({
    kind: 'refused',
    message:
      'the journal of office is kept by one engine, and the file /data/warehouse.duckdb is held by another.',
  })
})
