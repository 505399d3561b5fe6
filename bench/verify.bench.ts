/**
 * A PostgreSQL table of 8 columns against its copy in DuckDB, while 500 changes a second flow: how long its verification takes,
 * against what the two servers themselves take to give all rows in order. `ROWS=10000000` for more of them.
 */
import { DuckDBInstance } from '@duckdb/node-api'
import type { VerificationAnswer } from '@tide/core/api/verification'
import type { TideSample } from '@tide/core/pace/tide'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { eventually } from '../e2e/server.ts'
import { copyOut } from '../packages/connectors/src/postgres/copy-out.ts'
import { startRealPostgres } from '../packages/connectors/tests/real-postgres.ts'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { percentile, residentMemory, say } from './bed.ts'
import { makeFollowing } from './following.ts'

const ROWS = Number(process.env.ROWS ?? 1_000_000)
const PER_SECOND = 500
const AT_ONCE = 25
const ROUNDS = 3
const LIMIT = 1.5

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-bench-'))
const source = await startRealPostgres({ wal_sender_timeout: '0' })
const client = await source.connect()
await client.query(`CREATE TABLE mixed (id bigint PRIMARY KEY, at timestamptz NOT NULL, amount numeric(12,2), label text,
    flag boolean, note text, measured double precision, day date);
  INSERT INTO mixed SELECT i, '2026-03-01'::timestamptz + i * interval '1 second', i / 7.0, 'row ' || i, i % 2 = 0,
    'a longer note with "quotes", ' || md5(i::text), i * 1.5, '2026-03-01'::date + i % 1000 FROM generate_series(1, ${ROWS}) i`)
await client.query('VACUUM ANALYZE mixed')
const following = await makeFollowing(folder, {
  kind: 'postgres',
  config: { ...source.config, method: 'log' },
  namespace: 'public',
  positionKind: 'postgres log',
})
const { server } = following
const id = await following.follow('verify', 'duckdb')
await eventually(async () => (await following.status(id)).consistent, 60, 'the copy')

let writing = true
let made = 0
const began = Date.now()
const writes = (async () => {
  while (writing) {
    const due = began + (made / PER_SECOND) * 1000
    if (due > Date.now()) await sleep(due - Date.now())
    const first = 1 + ((made * 7919) % (ROWS - AT_ONCE))
    await client.query(
      `UPDATE mixed SET amount = amount + 1, at = clock_timestamp() WHERE id BETWEEN ${first} AND ${first + AT_ONCE - 1}`,
    )
    made += AT_ONCE
  }
})()
await sleep(5_000)

const taken: number[] = []
let most = 0
const idle = residentMemory(server.child.pid!)
const watching = setInterval(() => (most = Math.max(most, residentMemory(server.child.pid!))), 200)
const verifiedFrom = Date.now()
for (let round = 0; round < ROUNDS; round++) {
  const path = `/pipelines/${id}/verifications`
  const begun = await call<{ id: string }>(server.url, 'POST', path, {})
  const { verified } = await eventually(
    async () => {
      const all = await call<VerificationAnswer[]>(server.url, 'GET', path)
      const [lane] = all.find(one => one.id === begun.id)!.lanes
      return lane!.verified.endedAt !== null && lane!
    },
    600,
    'the verification',
  )
  if (verified.equal !== ROWS) throw new Error(`it is not equal: ${JSON.stringify(verified)}`)
  taken.push((Date.parse(verified.endedAt!) - Date.parse(verified.beganAt!)) / 1000)
  say(`verified: ${verified.equal} rows equal in ${taken.at(-1)!.toFixed(2)} s`)
}
const verifiedTo = Date.now()
clearInterval(watching)
const samples = await call<TideSample[]>(server.url, 'GET', `/pipelines/${id}/figures?seconds=600`)
const lags = samples.flatMap(({ at, lag }) =>
  at > verifiedFrom + 1000 && at <= verifiedTo + 1000 && lag !== null ? [lag] : [],
)
writing = false
await writes
say(`${Math.round(made / ((Date.now() - began) / 1000))} changes a second`)
await following.close()

/** What each server takes for all of it in order, with nothing else under way. */
const reading: number[] = []
const instance = await DuckDBInstance.create(join(folder, 'verify.warehouse.duckdb'), { threads: '2' })
const connection = await instance.connect()
for (let round = 0; round < ROUNDS; round++) {
  const from = performance.now()
  let bytes = 0
  for await (const part of copyOut(client, 'COPY (SELECT * FROM mixed ORDER BY id) TO STDOUT (FORMAT csv)'))
    bytes += part.length
  const between = performance.now()
  await connection.run(
    `COPY (SELECT * FROM into_verify.mixed ORDER BY id) TO '${join(folder, 'rows.csv')}' (FORMAT csv, HEADER false)`,
  )
  const to = performance.now()
  reading.push((to - from) / 1000)
  say(
    `read: ${(bytes / 1e6).toFixed(0)} MB from PostgreSQL in ${((between - from) / 1000).toFixed(2)} s, from DuckDB in ${((to - between) / 1000).toFixed(2)} s`,
  )
}
connection.disconnectSync()
instance.closeSync()
await client.end()
await source.close()
rmSync(folder, { recursive: true, force: true })
const [ours, theirs] = [percentile(taken, 0.5), percentile(reading, 0.5)]
say(
  `lag meanwhile: p99 ${percentile(lags, 0.99).toFixed(3)} s of ${lags.length} readings; memory of the server ${idle.toFixed(0)} MB before, at most ${most.toFixed(0)} MB meanwhile`,
)
say(
  `verify: ratio ${(ours / theirs).toFixed(2)} (ours ${ours.toFixed(2)} s for ${ROWS} rows, both servers’ ordered reads ${theirs.toFixed(2)} s, limit ${LIMIT})`,
)
