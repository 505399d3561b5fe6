/**
 * 1,000,000 rows go from PostgreSQL into an archive in a folder: copied, read back and compared, deleted. Against the plainest way in the same
 * run: `COPY TO`, DuckDB writing that as Parquet, and DELETE by as many keys at a time, with nothing verified or compared.
 */
import { DuckDBInstance } from '@duckdb/node-api'
import type { Column } from '@tide/core/records/column'
import type { Lane } from '@tide/core/plan/lane'
import { tableStep } from '@tide/core/plan/steps'
import { createWriteStream, mkdtempSync, rmSync } from 'node:fs'
import { pipeline } from 'node:stream/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { to as copyTo } from 'pg-copy-streams'
import { folder } from '../packages/connectors/src/folder/connector.ts'
import { postgres } from '../packages/connectors/src/postgres/connector.ts'
import { startRealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { archivedLane } from '../packages/engine/src/shapes/archive/lane.ts'
import { archiveLane, SLICE_ROWS } from '../packages/engine/src/shapes/archive/slices.ts'
import { firstCheckpoint, SharedCheckpoint } from '../packages/engine/src/shapes/replicate/checkpoint.ts'
import { say } from './bed.ts'

const ROWS = 1_000_000
const TOGETHER = 5_000

const READS: Column[] = [
  { name: 'id', type: { kind: 'int', bits: 64, signed: true }, nativeType: 'bigint', nullable: false },
  {
    name: 'at',
    type: { kind: 'timestamp', zoned: true },
    nativeType: 'timestamp with time zone',
    nullable: true,
  },
  {
    name: 'amount',
    type: { kind: 'decimal', precision: 12, scale: 2 },
    nativeType: 'numeric(12,2)',
    nullable: true,
  },
  { name: 'label', type: { kind: 'utf8' }, nativeType: 'text', nullable: true },
]
const NATIVE = ['BIGINT', 'TIMESTAMPTZ', 'DECIMAL(12,2)', 'VARCHAR']
const PLAN: Lane = {
  source: { namespace: 'public', name: 'rows' },
  target: { namespace: 'archive', name: 'rows' },
  reads: READS,
  identity: ['id'],
  writes: READS.map((one, i) => ({
    ...one,
    nativeType: NATIVE[i]!,
    value: { from: 'column', column: one.name },
  })),
  key: ['id'],
  scope: { column: 'at', op: 'is less than', value: '2030-01-01 00:00:00+00' },
  there: 'add',
  files: { as: 'merged', format: 'parquet', compress: 'zstd', folders: '' },
  rows: ROWS,
  rowsExact: true,
  bytes: 0,
}

const place = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
const database = await startRealPostgres()
const client = await database.connect()
const fill = async (table: string) => {
  await client.query(
    `CREATE TABLE ${table} (id bigint PRIMARY KEY, at timestamptz NOT NULL, amount numeric(12,2), label text);
     INSERT INTO ${table} SELECT i, '2026-01-01'::timestamptz + i * interval '1 second', i / 7.0, 'row number ' || i FROM generate_series(1, ${ROWS}) i`,
  )
  await client.query(`VACUUM ANALYZE ${table}`)
  await client.query('CHECKPOINT')
}

async function ours(): Promise<number> {
  const [from, to] = [await postgres.open(database.config), await folder.open({ path: join(place, 'lake') })]
  const target = to.target!
  const nowhere = { kind: 'none', incarnation: '', at: '' }
  const first = firstCheckpoint('bench', 1, nowhere, { lanes: [PLAN], plan: 0, does: 'archive' }, Date.now())
  await target.prepare([tableStep(PLAN, 'create table')], first)
  const checkpoint = new SharedCheckpoint(first)
  const began = performance.now()
  await archiveLane(
    {
      from,
      to,
      target,
      checkpoint,
      removal: from.removal!,
      unheard: true,
      rows: SLICE_ROWS,
      now: () => new Date().toISOString(),
    },
    archivedLane(PLAN, 0, { origin: '', hash: text => text }),
    new AbortController().signal,
    () => {},
  )
  const seconds = (performance.now() - began) / 1000
  const { archive } = checkpoint.now.lanes[0]!
  if (archive?.deleted !== ROWS) throw new Error(`${archive?.deleted} rows are deleted`)
  await Promise.all([from.close(), to.close()])
  return seconds
}

async function limit(): Promise<number> {
  const instance = await DuckDBInstance.create(':memory:', { threads: '2', memory_limit: '512MB' })
  const connection = await instance.connect()
  const csv = join(place, 'rows.csv')
  const began = performance.now()
  await pipeline(client.query(copyTo('COPY plain TO STDOUT (FORMAT csv)')), createWriteStream(csv))
  await connection.run(
    `COPY (SELECT * FROM read_csv('${csv}', header = false, columns = {id: 'BIGINT', "at": 'TIMESTAMPTZ', amount: 'DECIMAL(12,2)', label: 'VARCHAR'}))
       TO '${join(place, 'rows.parquet')}' (FORMAT parquet, COMPRESSION zstd)`,
  )
  for (let at = 0; at < ROWS; at += TOGETHER) {
    const keys = Array.from({ length: TOGETHER }, (_, i) => String(at + i + 1))
    await client.query('DELETE FROM plain WHERE id = ANY ($1::bigint[])', [keys])
  }
  const seconds = (performance.now() - began) / 1000
  connection.disconnectSync()
  instance.closeSync()
  return seconds
}

try {
  await fill('plain')
  const plain = await limit()
  await fill('rows')
  const archived = await ours()
  const memory = Math.round(process.memoryUsage().rss / 2 ** 20)
  say(`${(ROWS / archived).toFixed(0)} rows/s, ${(ROWS / plain).toFixed(0)} the plainest way; ${memory} MB`)
  say(
    `archive: ratio ${(plain / archived).toFixed(2)} (ours ${archived.toFixed(1)} s, limit ${plain.toFixed(1)} s; 0.5 wanted)`,
  )
} finally {
  await client.end()
  await database.close()
  rmSync(place, { recursive: true, force: true })
}
