/**
 * A process that lands numbered changes in two tables of a lake, each transaction in both, until it is killed. Its starter says
 * where and under which epoch; whatever is at the lake decides with which number it goes on.
 */
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { HistoryColumn } from '@tide/core/plan/lane'
import { packRow } from '@tide/core/records/tuple'
import { bucket } from '../../packages/connectors/src/bucket/connector.ts'
import { folder } from '../../packages/connectors/src/folder/connector.ts'
import type { TargetLane } from '../../packages/connectors/src/contract/target.ts'

const { kind, config, epoch, format } = JSON.parse(process.argv[2]!) as {
  kind: 'folder' | 'bucket'
  config: Record<string, string>
  epoch: number
  format: 'json lines' | 'parquet' | 'merged'
}

const about = (from: 'operation' | 'position'): HistoryColumn => ({
  name: `change_${from}`,
  type: { kind: 'utf8' },
  nativeType: 'VARCHAR',
  nullable: true,
  value: { from },
})
const changes: HistoryColumn[] = [
  about('operation'),
  about('position'),
  {
    name: 'number',
    type: { kind: 'int', bits: 32, signed: true },
    nativeType: 'INTEGER',
    nullable: true,
    value: { from: 'after', column: 'number' },
  },
]
const lanes = ['one', 'other'].map((name): TargetLane => ({
  table: { namespace: 'site', name },
  columns: changes,
  key: ['number'],
  changes,
  files: {
    as: format === 'merged' ? 'merged' : 'changes',
    format: format === 'json lines' ? format : 'parquet',
    compress: format === 'json lines' ? 'gzip' : 'zstd',
    folders: '',
  },
}))

const at = (number: number): Checkpoint => ({
  pipeline: 'kills',
  epoch,
  streams: [
    {
      origin: '',
      position: { kind: 'number', incarnation: '', at: String(number) },
      completeUpTo: new Date().toISOString(),
      consistent: true,
      lanes: [],
    },
  ],
})

const { open } = kind === 'folder' ? folder : bucket
const session = await open(config)
const target = session.target!
let found = await target.takeCheckpoint('kills', epoch, 0)
if (!found) {
  const steps = lanes.map(({ table, columns, key, files }) => ({
    step: 'create table' as const,
    table,
    columns: [...columns],
    key: [...key],
    files: files!,
  }))
  await target.prepare(steps, at(0))
  found = at(0)
}
let number = Number(found.streams[0]!.position.at)
process.send?.('writes')
for (;;) {
  const writing = await target.begin()
  try {
    const count = 1 + (number % 7)
    for (let part = 0; part < 2; part++) {
      const puts = Array.from({ length: count }, (_, i) => {
        const own = String(number + part * count + i + 1)
        return { key: [own], identity: [own], row: packRow(['insert', own, own]) }
      })
      const append = format === 'merged' ? {} : { append: true as const }
      const effect = { truncate: false, removed: [], puts, ...append }
      await writing.apply(lanes.map(lane => ({ lane, effect })))
    }
    number += 2 * count
    await writing.commit(at(number))
  } catch (thrown) {
    await writing.rollback()
    // Its starter begins it anew, and what is at the lake decides.
    process.stderr.write(`${(thrown as Error).message}\n`)
    process.exit(3)
  }
}
