/** What following costs the source: processor time of its server under a load, followed and not. */
import { say } from './bed.ts'
import { makeLogBed } from './log-bed.ts'
import { processorTimeOf } from './processor.ts'

const TRANSACTIONS = 40_000
const ROUNDS = 3

const bed = await makeLogBed()

const processorTime = () => processorTimeOf(bed.source.pid)

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
