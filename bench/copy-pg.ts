/** A table of 8 mixed columns copied from a real PostgreSQL: ours, against the server's own COPY piped into the target's own load. */
import { DuckDBInstance } from '@duckdb/node-api'
import type { PipelineStatus } from '@tide/core/api/types'
import { spawn, spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { startRealPostgres, type RealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { eventually, startServer } from '../e2e/server.ts'
import { copied, residentMemory, say } from './bed.ts'

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
  const client = await source.connect()
  await client.query(`CREATE TABLE mixed (${COLUMNS})`)
  await client.query(`INSERT INTO mixed SELECT i, timestamptz '2026-01-01' + i * interval '1 second', i / 7.0, i / 3.0, i % 2 = 0,
    CASE WHEN i % 10 = 0 THEN NULL ELSE 'bed ' || i % 120 || ', row ' || i END, md5(i::text)::uuid, date '2026-01-01' + i % 365
    FROM generate_series(1, ${wanted}) i`)
  await client.query('VACUUM ANALYZE mixed')
  await client.end()
  const limit = target ? pipeIntoPostgres(source, target) : await pipeIntoDuckdb(source, folder)
  say(`limit: ${wanted} rows in ${limit.toFixed(2)} s`)

  const server = await startServer(join(folder, 'data'))
  const connect = async (kind: string, config: object) =>
    (
      await call<{ id: string }>(server.url, 'POST', '/connections', {
        name: kind + Math.random(),
        kind,
        config,
      })
    ).id
  const from = await connect('postgres', { ...source.config, method: 'log' })
  const into = target
    ? await connect('postgres', { ...target.config, method: 'log' })
    : await connect('duckdb', { path: join(folder, 'w.duckdb') })
  const { id } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', {
    version: 1,
    name,
    from,
    to: into,
    targetSchema: 'ours',
    tables: [{ namespace: 'public', name: 'mixed' }],
  })
  let peak = 0
  const watching = setInterval(() => (peak = Math.max(peak, residentMemory(server.child.pid!))), 200)
  const began = performance.now()
  await call(server.url, 'POST', `/pipelines/${id}/start`)
  const status = await eventually(
    async () => {
      const now = await call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
      return (now.state === 'Stopped' || copied(now)) && now
    },
    1200,
    'the copy',
  )
  const ours = (performance.now() - began) / 1000
  clearInterval(watching)
  if (status.state === 'Stopped') throw new Error(status.reason?.message)
  if (status.lanes[0]!.copiedRows !== wanted)
    throw new Error(`${status.lanes[0]!.copiedRows} rows were copied`)
  say(`ours: ${wanted} rows in ${ours.toFixed(2)} s; the server process held ${Math.round(peak)} MB at most`)
  await server.stop()
  await Promise.all([source.close(), target?.close()])
  rmSync(folder, { recursive: true, force: true })
  const rate = (seconds: number) => `${Math.round(wanted / seconds)} rows/s`
  say(
    `${name}: ratio ${(limit / ours).toFixed(2)} (ours ${rate(ours)}, limit ${rate(limit)}; to reach: at least ${TO_REACH})`,
  )
}

const psql = ({ bin, config }: RealPostgres, sql: string) =>
  `PGPASSWORD='${config.password}' ${join(bin, 'psql')} -q -h ${config.host} -p ${config.port} -U ${config.user} ${config.database} -c "${sql}"`

const COPY_OUT = 'COPY mixed TO STDOUT (FORMAT csv)'

function pipeIntoPostgres(source: RealPostgres, target: RealPostgres): number {
  spawnSync('sh', ['-c', psql(target, `CREATE TABLE mixed (${COLUMNS})`)])
  const began = performance.now()
  const { status } = spawnSync('sh', [
    '-c',
    `${psql(source, COPY_OUT)} | ${psql(target, 'COPY mixed FROM STDIN (FORMAT csv)')}`,
  ])
  if (status !== 0) throw new Error('the plain way failed')
  return (performance.now() - began) / 1000
}

async function pipeIntoDuckdb(source: RealPostgres, folder: string): Promise<number> {
  const pipe = join(folder, 'pipe')
  spawnSync('mkfifo', [pipe])
  const instance = await DuckDBInstance.create(join(folder, 'limit.duckdb'), { threads: '2' })
  const connection = await instance.connect()
  const began = performance.now()
  const out = spawn('sh', ['-c', `${psql(source, COPY_OUT)} > ${pipe}`])
  await connection.run(
    `CREATE TABLE mixed AS SELECT * FROM read_csv('${pipe}', columns = ${DUCKDB}, header = false, auto_detect = false,
       delim = ',', quote = '"', escape = '"', nullstr = '', allow_quoted_nulls = false)`,
  )
  const seconds = (performance.now() - began) / 1000
  if (out.exitCode !== null && out.exitCode !== 0) throw new Error('the plain way failed')
  connection.disconnectSync()
  instance.closeSync()
  return seconds
}
