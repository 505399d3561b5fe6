/**
 * 1,000,000 changes from the journal into published files, as JSON Lines with gzip and as Parquet, against the plainest loop over a copy of
 * the same journal in this run: decode each change, serialise it, compress, write; for Parquet DuckDB's own `COPY` behind the loop's CSV.
 */
import { DuckDBInstance } from '@duckdb/node-api'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { unpackRow } from '@tide/core/records/tuple'
import { cpSync, createWriteStream, readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import { createGzip } from 'node:zlib'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually } from '../e2e/server.ts'
import { Journal } from '../packages/journal/src/journal.ts'
import { JournalReader } from '../packages/journal/src/reader.ts'
import { say } from './bed.ts'
import { makeLogBed } from './log-bed.ts'

const CHANGES = 1_000_000
const AT_ONCE = 20_000
const WANTED = 0.5

const bed = await makeLogBed()
const { client, server, folder } = bed
const formats = ['json lines', 'parquet'] as const
const ids = new Map<string, string>()
for (const format of formats) {
  const name = format.replace(' ', '_')
  ids.set(
    format,
    await bed.follow(name, 'folder', { files: { format }, speed: { changes: 1_000_000, waits: 1 } }),
  )
}
for (const id of ids.values()) {
  await bed.act(id, 'pause')
  await eventually(
    async () => (await call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)).state === 'Paused',
    60,
    'the pause',
  )
}
const begin = await bed.head()
await client.query(
  `INSERT INTO mixed SELECT i, now(), i / 7.0, 'row ' || i FROM generate_series(1, ${CHANGES}) i`,
)
await bed.untilInJournal(await bed.head())

const memory = () =>
  Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${server.child.pid}/status`, 'utf8'))![1]) / 1024
const ours = new Map<string, number>()
for (const [format, id] of ids) {
  const before = memory()
  let most = before
  const watching = setInterval(() => (most = Math.max(most, memory())), 100)
  await bed.act(id, 'continue')
  ours.set(format, await bed.untilLanded(id, CHANGES))
  clearInterval(watching)
  await bed.act(id, 'pause')
  say(
    `${format}: ${Math.round(CHANGES / ours.get(format)!)} changes a second; memory of the server ${Math.round(before)} MB before, ${Math.round(most)} MB at most`,
  )
}

// The loop reads a copy, since a journal has one writer.
const [kept] = readdirSync(join(folder, 'data', 'journal'))
const copy = join(folder, 'copy')
cpSync(join(folder, 'data', 'journal', kept!), copy, { recursive: true })
const journal = (await Journal.open(copy))!

async function* lines(format: (typeof formats)[number]): AsyncGenerator<string> {
  const reader = new JournalReader(journal, begin, ({ columns }) => ({
    lane: 0,
    columns: columns.map((_, i) => i),
    since: null,
  }))
  for (let left = CHANGES; left > 0;) {
    const { transactions } = await reader.read(AT_ONCE)
    let text = ''
    for (const { at, id, start, events } of transactions) {
      for (const event of events) {
        if (event.op !== 'insert') throw new Error('a change that was not made here')
        const [key, moment, amount, label] = unpackRow(event.after)
        text +=
          format === 'parquet'
            ? `insert,${at},${id},${start},${event.number},${key},${moment},${amount},${label}\n`
            : `${JSON.stringify({ op: 'insert', at, id, start, number: event.number, key, moment, amount, label })}\n`
        left--
      }
    }
    yield text
  }
  await reader.close()
}

async function loop(format: (typeof formats)[number]): Promise<number> {
  const began = performance.now()
  const file = join(folder, 'limit')
  const body = Readable.from(lines(format))
  if (format === 'json lines')
    await pipeline(body, createGzip({ level: 1 }), createWriteStream(`${file}.jsonl.gz`))
  else {
    await pipeline(body, createWriteStream(`${file}.csv`))
    const instance = await DuckDBInstance.create(':memory:', { threads: '2' })
    const connection = await instance.connect()
    await connection.run(
      `COPY (SELECT * FROM read_csv('${file}.csv', header = false, columns = {c0: 'VARCHAR', c1: 'TIMESTAMPTZ', c2: 'VARCHAR', c3: 'VARCHAR', c4: 'INTEGER', c5: 'BIGINT', c6: 'TIMESTAMPTZ', c7: 'DECIMAL(12,2)', c8: 'VARCHAR'})) TO '${file}.parquet' (FORMAT parquet, COMPRESSION zstd)`,
    )
    connection.disconnectSync()
    instance.closeSync()
  }
  return (performance.now() - began) / 1000
}

const ratios: number[] = []
for (const format of formats) {
  const limit = await loop(format)
  ratios.push(limit / ours.get(format)!)
  say(
    `${format}: the plainest loop ${Math.round(CHANGES / limit)} changes a second, ratio ${ratios.at(-1)!.toFixed(2)}`,
  )
}
await bed.close()
say(
  `change-files: ratio ${Math.min(...ratios).toFixed(2)} (ours into published files, limit the plainest loop; to reach: at least ${WANTED})`,
)
