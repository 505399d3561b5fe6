/** Finding a time in a journal of 10 GiB, against reading as much of it as lies between two entries of its index. */
import { encodeRow } from '@tide/core/records/tuple'
import { Journal } from '@tide/journal/journal'
import { placeAtTime } from '@tide/journal/place'
import { mkdtempSync, rmSync } from 'node:fs'
import { open } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { printLsn } from '@tide/core/position/lsn'
import { say } from './bed.ts'

const BYTES = 10 * 2 ** 30
const ROW = encodeRow(['x'.repeat(1_000)])
const ROWS_IN_A_TRANSACTION = 8
const FLUSH_EVERY = 200
const ASKED = 300
const READ_BYTES = 1024 * 1024

const folder = join(mkdtempSync(join(tmpdir(), 'constant-tide-bench-')), 'journal')
const lsn = (n: number) => printLsn(BigInt(n + 1) * 0x100n)

async function write(journal: Journal): Promise<number> {
  const { appender } = journal
  appender.relation({
    id: 1,
    dataset: { namespace: 's', name: 't' },
    columns: [{ name: 'v', nativeType: 'text' }],
  })
  const count = Math.ceil(BYTES / (ROWS_IN_A_TRANSACTION * ROW.length))
  for (let n = 0; n < count; n++) {
    appender.begin(lsn(n), timeOf(n), String(n))
    for (let i = 0; i < ROWS_IN_A_TRANSACTION; i++) appender.insert(1, ROW)
    appender.commit(lsn(n + 1))
    if (n % FLUSH_EVERY === 0) await appender.flush()
  }
  await appender.flush()
  return count
}

/** Microseconds; nearly in order, as in a log. */
function timeOf(n: number): number {
  return 1_700_000_000_000_000 + n * 1_000 + (n % 7) * 300
}

async function timed(work: () => Promise<unknown>): Promise<number> {
  const began = performance.now()
  await work()
  return performance.now() - began
}

const summary = (times: number[]) => {
  times.sort((a, b) => a - b)
  const at = (share: number) => times[Math.min(times.length - 1, Math.floor(times.length * share))]!
  return { p50: at(0.5), p99: at(0.99), most: times.at(-1)! }
}
const printed = ({ p50, p99, most }: ReturnType<typeof summary>) =>
  `p50 ${p50.toFixed(2)}, p99 ${p99.toFixed(2)}, most ${most.toFixed(2)} ms`

let journal = await Journal.begin(folder, { kind: 'postgres log', incarnation: 'one', at: lsn(0) })
try {
  const count = await write(journal)
  await journal.close()
  const began = performance.now()
  journal = (await Journal.open(folder))!
  const { bytes, segments } = journal.facts()
  say(
    `${(bytes / 2 ** 30).toFixed(1)} GiB in ${segments} segments, ${count} transactions; opened in ${Math.round(performance.now() - began)} ms`,
  )
  const chosen = Array.from({ length: ASKED }, (_, i) => Math.floor(((i * 0.618034) % 1) * count))
  const ours: number[] = []
  for (const n of chosen) {
    let start: string | undefined
    ours.push(await timed(async () => void (start = (await placeAtTime(journal, timeOf(n)))?.next?.start)))
    // The first one in the log's order that was committed then or later.
    let first = n
    for (let before = Math.max(0, n - 10); before < n; before++)
      if (timeOf(before) >= timeOf(n)) {
        first = before
        break
      }
    if (start !== lsn(first)) throw new Error(`for ${n} it found ${start}, not ${lsn(first)}`)
  }
  const buffer = Buffer.alloc(READ_BYTES)
  const limit: number[] = []
  for (const n of chosen) {
    const { number } = journal.segments[Math.floor((n / count) * (journal.segments.length - 1))]!
    limit.push(
      await timed(async () => {
        const file = await open(join(folder, `${String(number).padStart(10, '0')}.journal`))
        await file.read(buffer, 0, READ_BYTES, 16 * 1024 * (n % 1_000))
        await file.close()
      }),
    )
  }
  const [found, read] = [summary(ours), summary(limit)]
  say(`a time is found: ${printed(found)}`)
  say(`one read of 1 MiB: ${printed(read)}`)
  say(
    `rewind: ratio ${(read.p50 / found.p50).toFixed(2)} (ours ${found.p50.toFixed(2)} ms, at most ${found.most.toFixed(1)} ms, limit ${read.p50.toFixed(2)} ms)`,
  )
} finally {
  await journal.close()
  rmSync(join(folder, '..'), { recursive: true, force: true })
}
