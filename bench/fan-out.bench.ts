/**
 * Four pipelines on one journal: what they cost the source, and what rate each has beside the others, against the rate
 * it has alone, as far as there are cores for it: four together cannot take less time than their processor time, all
 * added up, takes on all cores. First with a backlog, as fast as the machine lets them; then at a steady rate.
 */
import { availableParallelism } from 'node:os'
import { setTimeout as sleep } from 'node:timers/promises'
import { say } from './bed.ts'
import type { TargetKind } from './following.ts'
import { makeLogBed } from './log-bed.ts'
import { machineTime } from './processor.ts'

const BACKLOG = 60_000
const PER_SECOND = 1_000
const STEADY_S = 15
const TO_REACH = 0.8
const TARGETS: [string, TargetKind][] = [
  ['one', 'duckdb'],
  ['two', 'postgres'],
  ['three', 'duckdb'],
  ['four', 'postgres'],
]

const bed = await makeLogBed()
const ids: string[] = []
for (const [name, kind] of TARGETS) ids.push(await bed.follow(name, kind))
const all = <T>(what: (id: string) => Promise<T>) => Promise.all(ids.map(what))

const landed = ids.map(() => 0)
let next = 1
async function backlog(): Promise<void> {
  await all(id => bed.act(id, 'pause'))
  await bed.client.query(`CALL one_by_one(${next}, ${BACKLOG})`)
  next += BACKLOG
  await bed.untilInJournal(await bed.head())
  ids.forEach((_, i) => (landed[i]! += BACKLOG))
}

await backlog()
const alone: number[] = []
let work = 0
for (const [i, id] of ids.entries()) {
  const before = machineTime()
  await bed.act(id, 'continue')
  const seconds = await bed.untilLanded(id, landed[i]!)
  alone.push(BACKLOG / seconds)
  const used = machineTime() - before
  work += used
  say(`backlog, pipeline ${TARGETS[i]![0]}: alone ${(used / seconds).toFixed(2)} cores busy`)
}
const cores = availableParallelism()
const permitted = BACKLOG / (work / cores)
await backlog()
await all(id => bed.act(id, 'continue'))
const together = await Promise.all(
  ids.map(async (id, i) => BACKLOG / (await bed.untilLanded(id, landed[i]!))),
)
const rate = (perSecond: number) => `${Math.round(perSecond)} changes/s`
for (const [i, [name, kind]] of TARGETS.entries())
  say(
    `backlog, pipeline ${name} (${kind}): alone ${rate(alone[i]!)}, beside the others ${rate(together[i]!)}, ratio ${(together[i]! / alone[i]!).toFixed(2)}`,
  )
say(`backlog, all four: ${rate(together.reduce((sum, one) => sum + one, 0))}`)
const backlogRatio = Math.min(...together.map((one, i) => one / Math.min(alone[i]!, permitted)))
say(
  `backlog: ${cores} cores permit each ${rate(permitted)} when all four work, the slowest reaches ${backlogRatio.toFixed(2)} of it`,
)

const began = Date.now()
const before = await all(async id => (await bed.status(id)).landed)
for (let due = began; due < began + STEADY_S * 1000; due += 100) {
  if (due > Date.now()) await sleep(due - Date.now())
  await bed.client.query(`CALL one_by_one(${next}, ${PER_SECOND / 10})`)
  next += PER_SECOND / 10
}
const seconds = (Date.now() - began) / 1000
const after = await all(async id => (await bed.status(id)).landed)
const given = STEADY_S * PER_SECOND
const steady = Math.min(...after.map((changes, i) => changes - before[i]!)) / given
const readers = (
  await bed.client.query(`SELECT count(*) AS n FROM pg_stat_replication WHERE application_name <> 'limit'`)
).rows[0].n
const slots = (await bed.client.query('SELECT count(*) AS n FROM pg_replication_slots')).rows[0].n
say(`the source has ${readers} reader and ${slots} slot`)
await bed.close()
if (Number(readers) !== 1 || Number(slots) !== 1) throw new Error('the journal is not the only reader')
say(`steady, the slowest of four at ${rate(given / seconds)}: ${steady.toFixed(2)} of it`)
say(
  `fan-out: ratio ${Math.min(steady, backlogRatio).toFixed(2)} (ours: the slowest of four, limit: its rate alone, or what ${cores} cores permit; to reach: at least ${TO_REACH})`,
)
