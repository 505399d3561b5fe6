/**
 * A backlog in the log of a real PostgreSQL, of one-row transactions and of transactions of 10,000 rows: how fast it gets
 * into the journal and into two targets, against the server's own `pg_recvlogical` into a file. Then the lag at a steady
 * rate. The engine is frozen while a backlog is made, and its time runs from when it is let go.
 */
import type { TideSample } from '@tide/core/pace/tide'
import { spawnSync } from 'node:child_process'
import { rmSync } from 'node:fs'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { percentile, say } from './bed.ts'
import { makeLogBed } from './log-bed.ts'

const SMALL = 100_000
const LARGE = 20
const LARGE_ROWS = 10_000
const PER_SECOND = 2_000
const STEADY_S = 60
/** The steady rate begins behind a backlog; its first seconds are not counted. */
const SETTLES_MS = 5_000
const INTO_JOURNAL = 0.5

const bed = await makeLogBed()
const { client, source, server } = bed
const pipelines: [string, string][] = [
  ['DuckDB', await bed.follow('duckdb', 'duckdb')],
  ['PostgreSQL', await bed.follow('postgres', 'postgres')],
]

/** Seconds that the server's own program takes to receive what was made since its slot, into a file. */
async function receive(publication: string, upTo: string): Promise<number> {
  const { host, port, user, password, database } = source.config
  const where = ['-h', host, '-p', String(port), '-U', user, '-d', database]
  const file = join(bed.folder, 'limit')
  const how = ['-S', 'limit', '--start', '-f', file, '--endpos', upTo]
  const options = ['-o', 'proto_version=1', '-o', `publication_names="${publication}"`]
  const began = performance.now()
  const received = spawnSync(join(source.bin, 'pg_recvlogical'), [...where, ...how, ...options], {
    env: { ...process.env, PGPASSWORD: password },
  })
  if (received.status !== 0) throw new Error(String(received.stderr))
  const seconds = (performance.now() - began) / 1000
  await client.query(`SELECT pg_drop_replication_slot('limit')`)
  rmSync(file)
  return seconds
}

async function makeLarge(): Promise<void> {
  for (let i = 0; i < LARGE; i++) {
    const first = SMALL + i * LARGE_ROWS + 1
    await client.query(
      `INSERT INTO mixed SELECT i, clock_timestamp(), i / 7.0, 'row ' || i FROM generate_series(${first}, ${first + LARGE_ROWS - 1}) i`,
    )
  }
}

let landed = 0
const ratios: number[] = []
const backlogs: [string, number, () => Promise<unknown>][] = [
  ['one-row transactions', SMALL, () => client.query(`CALL one_by_one(1, ${SMALL})`)],
  ['transactions of 10,000 rows', LARGE * LARGE_ROWS, makeLarge],
]
for (const [what, changes, make] of backlogs) {
  for (const [, id] of pipelines) await bed.act(id, 'pause')
  const [{ pubname }] = (await client.query('SELECT pubname FROM pg_publication')).rows
  await client.query(`SELECT pg_create_logical_replication_slot('limit', 'pgoutput')`)
  server.child.kill('SIGSTOP')
  await make()
  const head = await bed.head()
  const limit = await receive(pubname, head)
  server.child.kill('SIGCONT')
  const journal = await bed.untilInJournal(head)
  ratios.push(limit / journal)
  const rate = (seconds: number) => `${Math.round(changes / seconds)} changes/s`
  say(
    `${what}: limit ${rate(limit)}; into the journal ${rate(journal)}, ratio ${(limit / journal).toFixed(2)}`,
  )
  landed += changes
  for (const [name, id] of pipelines) {
    await bed.act(id, 'continue')
    const seconds = await bed.untilLanded(id, landed)
    say(`${what}: from the journal into ${name} ${rate(seconds)}, ratio ${(limit / seconds).toFixed(2)}`)
  }
}

const began = Date.now()
let next = landed + 1
for (let due = began; due < began + STEADY_S * 1000; due += 100) {
  if (due > Date.now()) await sleep(due - Date.now())
  await client.query(`CALL one_by_one(${next}, ${PER_SECOND / 10})`)
  next += PER_SECOND / 10
}
const achieved = (next - landed - 1) / ((Date.now() - began) / 1000)
for (const [name, id] of pipelines) {
  const samples = await call<TideSample[]>(server.url, 'GET', `/pipelines/${id}/figures?seconds=120`)
  const lags = samples.flatMap(({ at, lag }) => (at > began + SETTLES_MS && lag !== null ? [lag] : []))
  say(
    `steady ${Math.round(achieved)} changes/s into ${name}: lag p50 ${percentile(lags, 0.5).toFixed(3)} s, p99 ${percentile(lags, 0.99).toFixed(3)} s`,
  )
}
await bed.close()
say(
  `follow-pg: ratio ${Math.min(...ratios).toFixed(2)} (ours into the journal, limit pg_recvlogical into a file; to reach: at least ${INTO_JOURNAL})`,
)
