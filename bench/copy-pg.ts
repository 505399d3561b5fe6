/** A table of 8 mixed columns copied from a real PostgreSQL: ours, against the server's own COPY piped into the target's own load. */
import { spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { startRealPostgres, type RealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { say } from './bed.ts'
import { copyOurs, measured, sayCopy, type Measured } from './copying.ts'
import { loadDuckdb } from './load-duckdb.ts'

const COLUMNS = `id bigint PRIMARY KEY, at timestamptz NOT NULL, amount numeric(12,2), ratio double precision,
  flag boolean, label text, code uuid, day date`
const DUCKDB = `{'id': 'BIGINT', 'at': 'TIMESTAMPTZ', 'amount': 'DECIMAL(12,2)', 'ratio': 'DOUBLE', 'flag': 'BOOLEAN', 'label': 'VARCHAR', 'code': 'UUID', 'day': 'DATE'}`
const TO_REACH = 0.7

/** `rows` may be given as the environment's ROWS. The last line is the ratio of our rate to the limit's. */
export async function benchCopy(name: string, to: 'duckdb' | 'postgres', rows = 10_000_000): Promise<void> {
  const wanted = Number(process.env.ROWS ?? rows)
  const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
  const source = await startRealPostgres()
  const target = to === 'postgres' ? await startRealPostgres() : undefined
  await fillMixed(source, wanted)
  const limit = await (target ? pipeIntoPostgres(source, target) : pipeIntoDuckdb(source, folder))
  say(`limit: ${wanted} rows in ${limit.seconds.toFixed(2)} s`)

  const from = { kind: 'postgres', config: { ...source.config, method: 'log' }, namespace: 'public' }
  const into = target
    ? { kind: 'postgres', config: { ...target.config, method: 'log' } }
    : { kind: 'duckdb', config: { path: join(folder, 'w.duckdb') } }
  const ours = await copyOurs(folder, from, into, wanted)
  await Promise.all([source.close(), target?.close()])
  rmSync(folder, { recursive: true, force: true })
  sayCopy(name, wanted, ours, limit, TO_REACH)
}

/** A table of 8 mixed columns, with so many rows. */
export async function fillMixed(source: RealPostgres, wanted: number): Promise<void> {
  const client = await source.connect()
  await client.query(`CREATE TABLE mixed (${COLUMNS})`)
  await client.query(`INSERT INTO mixed SELECT i, timestamptz '2026-01-01' + i * interval '1 second', i / 7.0, i / 3.0, i % 2 = 0,
    CASE WHEN i % 10 = 0 THEN NULL ELSE 'bed ' || i % 120 || ', row ' || i END, md5(i::text)::uuid, date '2026-01-01' + i % 365
    FROM generate_series(1, ${wanted}) i`)
  await client.query('VACUUM ANALYZE mixed')
  await client.end()
}

const psql = ({ bin, config }: RealPostgres, sql: string) =>
  `PGPASSWORD='${config.password}' ${join(bin, 'psql')} -q -h ${config.host} -p ${config.port} -U ${config.user} ${config.database} -c "${sql}"`

const COPY_OUT = 'COPY mixed TO STDOUT (FORMAT csv)'

function pipeIntoPostgres(source: RealPostgres, target: RealPostgres): Promise<Measured> {
  spawnSync('sh', ['-c', psql(target, `CREATE TABLE mixed (${COLUMNS})`)])
  return measured(() => {
    const { status } = spawnSync('sh', [
      '-c',
      `${psql(source, COPY_OUT)} | ${psql(target, 'COPY mixed FROM STDIN (FORMAT csv)')}`,
    ])
    if (status !== 0) throw new Error('the plain way failed')
  })
}

function pipeIntoDuckdb(source: RealPostgres, folder: string): Promise<Measured> {
  return loadDuckdb(
    folder,
    psql(source, COPY_OUT),
    `columns = ${DUCKDB}, header = false, auto_detect = false, delim = ',', quote = '"', escape = '"', nullstr = '', allow_quoted_nulls = false`,
  )
}
