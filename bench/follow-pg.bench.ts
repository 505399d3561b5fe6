/**
 * A backlog in the log of a real PostgreSQL, of one-row transactions and of transactions of 10,000 rows: how fast it gets
 * into the journal and into two targets, against the server's own `pg_recvlogical` into a file. Then the lag at a steady
 * rate. The engine is frozen while a backlog is made, and its time runs from when it is let go.
 */
import type { JournalInfo, PipelineStatus } from '@tide/core/api/types'
import type { TideSample } from '@tide/core/pace/tide'
import { compareWithin } from '@tide/core/position/order'
import { spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { startRealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { eventually, startServer } from '../e2e/server.ts'
import { copied, percentile, say } from './bed.ts'

const SMALL = 100_000
const LARGE = 20
const LARGE_ROWS = 10_000
const PER_SECOND = 2_000
const STEADY_S = 20
const INTO_JOURNAL = 0.5

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
const source = await startRealPostgres({ wal_sender_timeout: '0' })
const target = await startRealPostgres()
const client = await source.connect()
await client.query(
  `CREATE TABLE mixed (id bigint PRIMARY KEY, at timestamptz NOT NULL, amount numeric(12,2), label text)`,
)
await client.query(`CREATE PROCEDURE one_by_one(first int, n int) LANGUAGE plpgsql AS $$
BEGIN
  FOR i IN first .. first + n - 1 LOOP
    INSERT INTO mixed VALUES (i, clock_timestamp(), i / 7.0, 'row ' || i);
    COMMIT;
  END LOOP;
END $$`)

const server = await startServer(join(folder, 'data'))
const connect = async (name: string, kind: string, config: object) =>
  (await call<{ id: string }>(server.url, 'POST', '/connections', { name, kind, config })).id
const from = await connect('source', 'postgres', { ...source.config, method: 'log' })
const pipelines: [string, string][] = []
for (const [name, kind, config] of [
  ['DuckDB', 'duckdb', { path: join(folder, 'w.duckdb') }],
  ['PostgreSQL', 'postgres', { ...target.config, method: 'log' }],
] as const) {
  const to = await connect(name, kind, config)
  const tables = [{ namespace: 'public', name: 'mixed' }]
  const definition = { version: 1, name, from, to, targetSchema: 'ours', tables }
  const { id } = await call<PipelineStatus>(server.url, 'POST', '/pipelines', definition)
  await call(server.url, 'POST', `/pipelines/${id}/start`)
  pipelines.push([name, id])
}
const status = (id: string) => call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)
for (const [, id] of pipelines)
  await eventually(
    async () => copied(await status(id)) && (await status(id)).state === 'Following',
    60,
    'the start',
  )
const others = pipelines.map(([, id]) => id)
const pause = (id: string) => call(server.url, 'POST', `/pipelines/${id}/pause`)
const go = (id: string) => call(server.url, 'POST', `/pipelines/${id}/continue`)
const one = async (sql: string) => (await client.query(sql)).rows[0]

let landed = 0
let last = 0
const ratios: number[] = []
for (const [what, changes, make] of [
  ['one-row transactions', SMALL, () => client.query(`CALL one_by_one(1, ${SMALL})`)],
  [
    'transactions of 10,000 rows',
    LARGE * LARGE_ROWS,
    async () => {
      for (let i = 0; i < LARGE; i++)
        await client.query(
          `INSERT INTO mixed SELECT i, clock_timestamp(), i / 7.0, 'row ' || i FROM generate_series(${SMALL + i * LARGE_ROWS + 1}, ${SMALL + (i + 1) * LARGE_ROWS}) i`,
        )
    },
  ],
] as [string, number, () => Promise<unknown>][]) {
  for (const id of others) await pause(id)
  const [{ pubname }] = (await client.query('SELECT pubname FROM pg_publication')).rows
  await client.query(`SELECT pg_create_logical_replication_slot('limit', 'pgoutput')`)
  server.child.kill('SIGSTOP')
  await make()
  const { lsn } = await one('SELECT pg_current_wal_insert_lsn()::text AS lsn')
  const { host, port, user, password, database } = source.config
  let began = performance.now()
  const received = spawnSync(
    join(source.bin, 'pg_recvlogical'),
    [
      '-h',
      host,
      '-p',
      String(port),
      '-U',
      user,
      '-d',
      database,
      '-S',
      'limit',
      '--start',
      '-f',
      join(folder, 'limit'),
      '--endpos',
      lsn,
      '-o',
      'proto_version=1',
      '-o',
      `publication_names="${pubname}"`,
    ],
    { env: { ...process.env, PGPASSWORD: password } },
  )
  if (received.status !== 0) throw new Error(String(received.stderr))
  const limit = (performance.now() - began) / 1000
  await client.query(`SELECT pg_drop_replication_slot('limit')`)
  rmSync(join(folder, 'limit'))
  began = performance.now()
  server.child.kill('SIGCONT')
  await eventually(
    async () => {
      const journal = await call<JournalInfo>(server.url, 'GET', `/connections/${from}/journal`)
      return compareWithin('postgres log', journal.end.position, lsn) !== 'before'
    },
    600,
    'the journal',
  )
  const journal = (performance.now() - began) / 1000
  ratios.push(limit / journal)
  const rate = (seconds: number) => `${Math.round(changes / seconds)} changes/s`
  say(
    `${what}: limit ${rate(limit)}; into the journal ${rate(journal)}, ratio ${(limit / journal).toFixed(2)}`,
  )
  landed += changes
  for (const [name, id] of pipelines) {
    began = performance.now()
    await go(id)
    await eventually(async () => (await status(id)).landed >= landed, 900, name)
    const seconds = (performance.now() - began) / 1000
    say(`${what}: from the journal into ${name} ${rate(seconds)}, ratio ${(limit / seconds).toFixed(2)}`)
  }
  last = SMALL + LARGE * LARGE_ROWS
}

const steadyBegan = Date.now()
let next = last + 1
for (let due = steadyBegan; due < steadyBegan + STEADY_S * 1000; due += 100) {
  if (due > Date.now()) await sleep(due - Date.now())
  await client.query(`CALL one_by_one(${next}, ${PER_SECOND / 10})`)
  next += PER_SECOND / 10
}
const achieved = (next - last - 1) / ((Date.now() - steadyBegan) / 1000)
for (const [name, id] of pipelines) {
  const samples = await call<TideSample[]>(server.url, 'GET', `/pipelines/${id}/figures?seconds=60`)
  const lags = samples.flatMap(({ at, lag }) => (at > steadyBegan + 1000 && lag !== null ? [lag] : []))
  say(
    `steady ${Math.round(achieved)} changes/s into ${name}: lag p50 ${percentile(lags, 0.5).toFixed(3)} s, p99 ${percentile(lags, 0.99).toFixed(3)} s`,
  )
}
await client.end()
await server.stop()
await Promise.all([source.close(), target.close()])
rmSync(folder, { recursive: true, force: true })
const worst = Math.min(...ratios)
say(
  `follow-pg: ratio ${worst.toFixed(2)} (ours into the journal, limit pg_recvlogical into a file; to reach: at least ${INTO_JOURNAL})`,
)
