/** What following costs the source: processor time of its server under a load, followed and not. */
import { readdirSync, readFileSync } from 'node:fs'
import { say } from './bed.ts'
import { makeLogBed } from './log-bed.ts'

const TRANSACTIONS = 40_000
const ROUNDS = 3
const TICKS_PER_SECOND = 100

const bed = await makeLogBed()

/** Seconds of processor that the server and all its processes have taken, those that have ended included. */
function processorTime(): number {
  const stat = (pid: string) => {
    const text = readFileSync(`/proc/${pid}/stat`, 'utf8')
    return text.slice(text.lastIndexOf(')') + 2).split(' ')
  }
  const main = String(bed.source.pid)
  let ticks = 0
  for (const pid of readdirSync('/proc').filter(name => /^\d+$/.test(name))) {
    try {
      // The fields from the third on: 1 parent, 11 and 12 user and system, 13 and 14 those of ended children.
      const fields = stat(pid)
      if (pid === main) ticks += [11, 12, 13, 14].reduce((sum, i) => sum + Number(fields[i]), 0)
      else if (fields[1] === main) ticks += Number(fields[11]) + Number(fields[12])
    } catch {
      // It has ended meanwhile; then its parent counts it.
    }
  }
  return ticks / TICKS_PER_SECOND
}

let next = 1
async function load(): Promise<number> {
  const before = processorTime()
  await bed.client.query(`CALL one_by_one(${next}, ${TRANSACTIONS})`)
  next += TRANSACTIONS
  return processorTime() - before
}

async function rounds(settled: () => Promise<unknown>): Promise<number> {
  await load() // warm
  await settled()
  let total = 0
  for (let i = 0; i < ROUNDS; i++) {
    const before = processorTime()
    await load()
    await settled()
    total += processorTime() - before
  }
  return total / ROUNDS
}

const unfollowed = await rounds(async () => {})
const id = await bed.follow('duckdb', 'duckdb')
const base = (await bed.status(id)).landed
const first = next
const followed = await rounds(() => bed.untilLanded(id, base + (next - first)))
await bed.close()
const used = (seconds: number) => `${((seconds / TRANSACTIONS) * 1e6).toFixed(0)} µs`
say(
  `kindness: ratio ${(followed / unfollowed).toFixed(2)} (ours: ${used(followed)} of the source’s processor for each one-row transaction while followed, limit: ${used(unfollowed)} unfollowed)`,
)
