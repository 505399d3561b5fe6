/** 1,000,000 rows of 8 columns into the warehouse, against the plainest route: COPY into a CSV file, then DuckDB's load. */
import { DuckDBInstance } from '@duckdb/node-api'
import { createWriteStream } from 'node:fs'
import { join } from 'node:path'
import { pipeline } from 'node:stream/promises'
import pg from 'pg'
import { to as copyTo } from 'pg-copy-streams'
import { copied, makeBed, say } from './bed.ts'
import type { Measured } from './copying.ts'
import { machineTime } from './processor.ts'

const ROWS = 1_000_000
const ROUNDS = 3

const bed = await makeBed(ROWS)

async function plainest(round: number): Promise<Measured> {
  const client = new pg.Client(bed.source)
  await client.connect()
  const file = join(bed.folder, `plain-${round}.csv`)
  const [began, worked] = [performance.now(), machineTime()]
  await pipeline(client.query(copyTo('COPY mixed TO STDOUT (FORMAT csv)')), createWriteStream(file))
  const read = performance.now() - began
  const instance = await DuckDBInstance.create(join(bed.folder, `plain-${round}.duckdb`))
  const connection = await instance.connect()
  await connection.run(
    'CREATE TABLE mixed (id BIGINT, at_ TIMESTAMPTZ, amount DECIMAL(12,2), ratio DOUBLE, flag BOOLEAN, label VARCHAR, code UUID, day DATE)',
  )
  await connection.run(`COPY mixed FROM '${file}' (FORMAT csv, HEADER false, ALLOW_QUOTED_NULLS false)`)
  const seconds = (performance.now() - began) / 1000
  const processor = machineTime() - worked
  instance.closeSync()
  await client.end()
  say(`round ${round}: plainest ${seconds.toFixed(2)} s, of which ${(read / 1000).toFixed(2)} s reading`)
  return { seconds, processor }
}

async function ours(round: number): Promise<Measured> {
  const [began, worked] = [performance.now(), machineTime()]
  const id = await bed.start(`round_${round}`)
  const { lanes } = await bed.until(id, copied)
  const seconds = (performance.now() - began) / 1000
  const processor = machineTime() - worked
  if (lanes[0]!.copiedRows !== ROWS) throw new Error(`${lanes[0]!.copiedRows} rows were copied`)
  // Nothing of it may run beside the next round.
  await fetch(`${bed.server.url}/api/pipelines/${id}/stop`, { method: 'POST' })
  await new Promise(resolve => setTimeout(resolve, 1500))
  say(`round ${round}: ours ${seconds.toFixed(2)} s, from the start’s request to the last row committed`)
  return { seconds, processor }
}

const times: { plain: Measured; ours: Measured }[] = []
for (let round = 1; round <= ROUNDS; round++)
  times.push({ plain: await plainest(round), ours: await ours(round) })
await bed.close()
const median = (pick: (one: (typeof times)[number]) => number) =>
  times.map(pick).sort((a, b) => a - b)[Math.floor(ROUNDS / 2)]!
const [limit, own] = [median(one => one.plain.seconds), median(one => one.ours.seconds)]
const [plainly, worked] = [median(one => one.plain.processor), median(one => one.ours.processor)]
say(
  `processor time of all: ours ${worked.toFixed(2)} s, limit ${plainly.toFixed(2)} s, ratio ${(worked / plainly).toFixed(2)} (to reach: below 1.5)`,
)
say(
  `copy: ratio ${(own / limit).toFixed(2)} (ours ${own.toFixed(2)} s, limit ${limit.toFixed(2)} s; to reach: below 1.3)`,
)
