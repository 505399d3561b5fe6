/** 100,000 changes followed: how fast a backlog goes, and how far behind it is at a steady 500 changes a second. */
import type { TideSample } from '@tide/core/pace/tide'
import pg from 'pg'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { copied, makeBed, percentile, say } from './bed.ts'

const ROWS = 200_000
const BACKLOG = 70_000
const STEADY = 30_000
const PER_SECOND = 500
const LAG_LIMIT_S = 1

/** A transaction of `n` changes of one kind: 60 % updates, 30 % inserts, 10 % deletes, by one set-based statement. */
let inserted = ROWS
let deleted = 0
function statement(i: number, n: number): string {
  const kind = i % 10
  if (kind < 6) {
    const first = ROWS / 2 + ((i * 7919) % (ROWS / 2 - 60))
    return `UPDATE mixed SET amount = amount + 1, at = clock_timestamp() WHERE id BETWEEN ${first} AND ${first + n - 1}`
  }
  if (kind < 9) {
    inserted += n
    return `INSERT INTO mixed SELECT i, clock_timestamp(), 1, 2, true, 'new', md5(i::text)::uuid, current_date FROM generate_series(${inserted - n + 1}, ${inserted}) i`
  }
  deleted += n
  return `DELETE FROM mixed WHERE id BETWEEN ${deleted - n + 1} AND ${deleted}`
}
const size = (i: number) => 1 + ((i * 31) % 50)

const bed = await makeBed(ROWS)
const id = await bed.start('follow')
await bed.until(id, status => copied(status) && status.consistent)
const client = new pg.Client(bed.source)
await client.connect()

// A backlog, made while it is paused and then worked off.
await call(bed.server.url, 'POST', `/pipelines/${id}/pause`)
let made = 0
let i = 0
const making = performance.now()
for (; made < BACKLOG; i++) {
  made += size(i)
  await client.query(statement(i, size(i)))
}
const makingSeconds = (performance.now() - making) / 1000
await bed.until(id, status => status.state === 'Paused' && (status.backlog ?? 0) >= made)
const working = performance.now()
await call(bed.server.url, 'POST', `/pipelines/${id}/continue`)
await bed.until(id, status => status.landed >= made)
const workingSeconds = (performance.now() - working) / 1000
say(
  `backlog: ${made} changes made at ${Math.round(made / makingSeconds)} a second (the source’s own speed, captured), landed at ${Math.round(made / workingSeconds)} a second`,
)

// A steady stream.
const began = Date.now()
let steady = 0
for (; steady < STEADY; i++) {
  const due = began + (steady / PER_SECOND) * 1000
  if (due > Date.now()) await new Promise(resolve => setTimeout(resolve, due - Date.now()))
  steady += size(i)
  await client.query(statement(i, size(i)))
}
const achieved = steady / ((Date.now() - began) / 1000)
await bed.until(id, status => status.landed >= made + steady)
const samples = await call<TideSample[]>(bed.server.url, 'GET', `/pipelines/${id}/figures?seconds=600`)
const lags = samples.flatMap(({ at, lag }) => (at > began + 1000 && lag !== null ? [lag] : []))
const counted = await client.query('SELECT count(*)::int AS n FROM mixed')
const { lanes } = await bed.until(id, status => status.lanes[0]!.rowsThere === counted.rows[0].n)
say(`rows: ${counted.rows[0].n} at the source, ${lanes[0]!.rowsThere} at the target`)
await client.end()
await bed.close()
const [p50, p99] = [percentile(lags, 0.5), percentile(lags, 0.99)]
say(
  `steady: ${achieved.toFixed(0)} changes a second; greatest lag of each second over ${lags.length} s: p50 ${p50.toFixed(3)} s, p99 ${p99.toFixed(3)} s`,
)
say(
  `follow: ratio ${(p99 / LAG_LIMIT_S).toFixed(2)} (ours ${p99.toFixed(3)} s lag p99, limit ${LAG_LIMIT_S} s)`,
)
