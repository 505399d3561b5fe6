/**
 * 10,000 changed keys merged into tables of 1,000,000 and of 10,000,000 rows in 64 files, against one statement by hand over the same files in this
 * run: DuckDB's own read, join and write. The commit is also timed by itself.
 */
import { DuckDBInstance } from '@duckdb/node-api'
import type { Checkpoint } from '@tide/core/checkpoint/checkpoint'
import { packRow } from '@tide/core/records/tuple'
import { createReadStream, mkdtempSync, readFileSync, readdirSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { TargetLane } from '../packages/connectors/src/contract/target.ts'
import { folder as connector } from '../packages/connectors/src/folder/connector.ts'
import { Random } from '../soak/random.ts'
import { percentile, say } from './bed.ts'

const FILES = 64
const KEYS = 10_000
const ROUNDS = 5
const WANTED = 1.5
const COMMIT_MS = 100

const column = (name: string, type: TargetLane['columns'][number]['type'], nativeType: string) => ({
  name,
  type,
  nativeType,
  nullable: true,
})
const columns = [
  column('id', { kind: 'int', bits: 64, signed: true }, 'BIGINT'),
  column('amount', { kind: 'decimal', precision: 12, scale: 2 }, 'DECIMAL(12,2)'),
  column('label', { kind: 'utf8' }, 'VARCHAR'),
  column('at', { kind: 'timestamp', zoned: true }, 'TIMESTAMPTZ'),
]
const files = { as: 'merged', format: 'parquet', compress: 'zstd', folders: '' } as const
const lane: TargetLane = { table: { namespace: 'site', name: 'rows' }, columns, key: ['id'], files }
const checkpoint = (at: number): Checkpoint => ({
  pipeline: 'p',
  epoch: 1,
  streams: [
    {
      origin: '',
      position: { kind: 'n', incarnation: '', at: String(at) },
      completeUpTo: '2026-11-20T10:00:00.000Z',
      consistent: true,
      lanes: [],
    },
  ],
})
const place = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
const instance = await DuckDBInstance.create(':memory:', { threads: '2', memory_limit: '512MB' })
const hand = await instance.connect()
const random = new Random(1)

async function measure(rows: number): Promise<{ ratio: number; commitMs: number }> {
  const lake = join(place, String(rows))
  const session = await connector.open({ path: lake })
  const target = session.target!
  await target.prepare(
    [{ step: 'create table', table: lane.table, columns, key: ['id'], files }],
    checkpoint(0),
  )
  const each = Math.ceil(rows / FILES)
  const csv = join(place, 'part.csv')
  for (let file = 0; file < FILES; file++) {
    await hand.run(
      `COPY (SELECT i, (i * 1.25)::DECIMAL(12,2), 'row number ' || i, '2026-03-09 17:00:00+00' FROM range(${file * each}, ${Math.min(rows, (file + 1) * each)}) t(i)) TO '${csv}' (FORMAT csv, HEADER false)`,
    )
    await target.load(lane, { csv: createReadStream(csv), upTo: null }, false, (_, write) =>
      write(checkpoint(0)),
    )
  }
  const [ours, limits, commits]: [number[], number[], number[]] = [[], [], []]
  for (let round = 0; round < ROUNDS; round++) {
    const keys = new Set<string>()
    while (keys.size < KEYS) keys.add(String(random.below(rows)))
    const changed = [...keys].map(id => [id, '7.00', `round ${round}`, '2026-03-10 17:00:00+00'])
    // By hand over the files as they lie there now, into a place of its own.
    const data = join(lake, 'site.rows', 'data')
    const there = live(lake).map(path => `'${join(lake, 'site.rows', path)}'`)
    writeFileSync(csv, changed.map(row => `${row.join(',')}\n`).join(''))
    let began = performance.now()
    await hand.run(
      `COPY (SELECT t.* FROM read_parquet([${there.join(', ')}]) t ANTI JOIN read_csv('${csv}', header = false, columns = {id: 'BIGINT', amount: 'DECIMAL(12,2)', label: 'VARCHAR', moment: 'TIMESTAMPTZ'}) c ON t.id = c.id
         UNION ALL SELECT * FROM read_csv('${csv}', header = false, columns = {id: 'BIGINT', amount: 'DECIMAL(12,2)', label: 'VARCHAR', moment: 'TIMESTAMPTZ'})) TO '${join(place, 'limit.parquet')}' (FORMAT parquet, COMPRESSION zstd)`,
    )
    limits.push(performance.now() - began)
    began = performance.now()
    const writing = await target.begin()
    const puts = changed.map(row => ({ key: [row[0]!], identity: [row[0]!], row: packRow(row) }))
    await writing.apply([{ lane, effect: { truncate: false, removed: [], puts } }])
    const merged = performance.now()
    await writing.commit(checkpoint(round + 1))
    ours.push(performance.now() - began)
    commits.push(performance.now() - merged)
    if (round === 0)
      say(`${rows} rows: ${readdirSync(data).length} files in all, ${live(lake).length} of them live`)
  }
  await session.close()
  const [our, limit, commitMs] = [ours, limits, commits].map(all => percentile(all, 0.5)) as [
    number,
    number,
    number,
  ]
  say(
    `${rows.toLocaleString('en')} rows: merged in ${Math.round(our)} ms, by hand ${Math.round(limit)} ms, ratio ${(our / limit).toFixed(2)}; the commit by itself ${Math.round(commitMs)} ms`,
  )
  return { ratio: our / limit, commitMs }
}

/** The files of the newest snapshot, by what the catalogue's count of them says of the newest names. */
function live(lake: string): string[] {
  const folder = join(lake, 'site.rows')
  const versions = readdirSync(join(folder, 'metadata')).flatMap(
    name => /^v(\d+)\.metadata/.exec(name)?.[1] ?? [],
  )
  const newest = Math.max(...versions.map(Number))
  const metadata = JSON.parse(readFileSync(join(folder, 'metadata', `v${newest}.metadata.json`), 'utf8')) as {
    snapshots: { summary: Record<string, string> }[]
  }
  const count = Number(metadata.snapshots.at(-1)!.summary['total-data-files'])
  // All are written anew with each round, so that the newest names are the live ones.
  return readdirSync(join(folder, 'data'))
    .sort()
    .slice(-count)
    .map(name => join('data', name))
}

const results = [await measure(1_000_000), await measure(10_000_000)]
hand.disconnectSync()
instance.closeSync()
rmSync(place, { recursive: true, force: true })
const ratio = Math.max(...results.map(one => one.ratio))
const commitMs = Math.max(...results.map(one => one.commitMs))
say(
  `merge-lake: ratio ${ratio.toFixed(2)} (ours a merge with its commit, limit DuckDB by hand; to reach: at most ${WANTED}, and the commit in ${COMMIT_MS} ms: ${Math.round(commitMs)} ms)`,
)
