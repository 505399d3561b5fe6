/**
 * 500 changes a second followed from a PostgreSQL into a DuckDB file while eight heavy queries are asked of that file all the
 * time: how far behind it gets. `QUESTIONS=0` measures the same without them.
 */
import type { TideSample } from '@tide/core/pace/tide'
import { rmSync } from 'node:fs'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { percentile, say } from './bed.ts'
import { makeLogBed } from './log-bed.ts'

const ROWS = 500_000
const SECONDS = 60
const PER_SECOND = 500
const AT_ONCE = Number(process.env.QUESTIONS ?? 8)
const LAG_LIMIT_S = 1

/** Each would take minutes, much memory, or much room on disk. */
const HEAVY = [
  `SELECT count(*) FROM into_w.mixed a, into_w.mixed b WHERE a.amount + b.amount = 1.01`,
  `SELECT a.label, count(*) FROM into_w.mixed a JOIN into_w.mixed b ON a.amount < b.amount GROUP BY 1`,
  `SELECT DISTINCT a.label || b.label FROM into_w.mixed a, into_w.mixed b`,
  `SELECT a.id, b.id FROM into_w.mixed a, into_w.mixed b ORDER BY md5(a.label || b.label)`,
  `SELECT list(a.label ORDER BY b.id) FROM into_w.mixed a, into_w.mixed b GROUP BY a.id % 7`,
]

const bed = await makeLogBed()
const { client, source, server } = bed
await client.query(
  `INSERT INTO mixed SELECT i, now(), i / 7.0, 'row ' || i FROM generate_series(1, ${ROWS}) i`,
)
const id = await bed.follow('w', 'duckdb')
const { definition } = await bed.status(id)
const leaving = new AbortController()
const ended = new Map<number, number>()
const ask = async (n: number) => {
  for (let i = n; !leaving.signal.aborted; i++) {
    const answer = await fetch(`${server.url}/api/query`, {
      signal: leaving.signal,
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ connection: definition.to, sql: HEAVY[i % HEAVY.length] }),
    })
    await answer.text()
    ended.set(answer.status, (ended.get(answer.status) ?? 0) + 1)
  }
}
const began = Date.now()
const askers = Array.from({ length: AT_ONCE }, (_, n) => ask(n))
const PART = 10
let made = 0
for (let i = 0; Date.now() - began < SECONDS * 1000; i++) {
  const due = began + (made / PER_SECOND) * 1000
  if (due > Date.now()) await new Promise(resolve => setTimeout(resolve, due - Date.now()))
  const first = 1 + ((i * 7919) % (ROWS - PART))
  await client.query(
    i % 3 === 0
      ? `INSERT INTO mixed SELECT i, now(), 1, 'new' FROM generate_series(${ROWS + 1 + i * PART}, ${ROWS + i * PART + PART}) i`
      : `UPDATE mixed SET amount = amount + 1 WHERE id BETWEEN ${first} AND ${first + PART - 1}`,
  )
  made += PART
}
const seconds = (Date.now() - began) / 1000
const samples = await call<TideSample[]>(server.url, 'GET', `/pipelines/${id}/figures?seconds=600`)
const lags = samples.flatMap(({ at, lag }) => (at > began + 1000 && lag !== null ? [lag] : []))
await bed.untilLanded(id, made)
leaving.abort()
await Promise.allSettled(askers)
await client.end()
await bed.close()
await source.close()
rmSync(bed.folder, { recursive: true, force: true })
const [p50, p99] = [percentile(lags, 0.5), percentile(lags, 0.99)]
const answers = [...ended].map(([status, n]) => `${n} with ${status}`).join(', ')
say(
  `${(made / seconds).toFixed(0)} changes a second; ${AT_ONCE} queries at once, ended: ${answers || 'none'}; lag of each second over ${lags.length} s: p50 ${p50.toFixed(3)} s, p99 ${p99.toFixed(3)} s`,
)
say(
  `questions: ratio ${(p99 / LAG_LIMIT_S).toFixed(2)} (ours ${p99.toFixed(3)} s lag p99 with ${AT_ONCE} heavy queries, limit ${LAG_LIMIT_S} s)`,
)
