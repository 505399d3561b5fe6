/** 400,000 changes from a PostgreSQL's log into DuckDB, with every change kept and without: how fast a backlog is worked off. */
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { eventually } from '../e2e/server.ts'
import { percentile, say } from './bed.ts'
import { makeLogBed } from './log-bed.ts'

const CHANGES = 400_000
const ROUNDS = 3
const WANTED = 0.6

const bed = await makeLogBed()
const { client, server } = bed
await client.query(`ALTER TABLE mixed REPLICA IDENTITY FULL;
  INSERT INTO mixed SELECT i, now(), i / 7.0, 'row ' || i FROM generate_series(1, ${CHANGES}) i`)
const plain = await bed.follow('plain', 'duckdb')
const kept = await bed.follow('kept', 'duckdb', { history: true })
const status = (id: string) => call<PipelineStatus>(server.url, 'GET', `/pipelines/${id}`)

/** Also one that is paused. */
const pause = async (id: string) => {
  if ((await status(id)).state !== 'Paused') await bed.act(id, 'pause')
  await eventually(async () => (await status(id)).state === 'Paused', 60, 'the pause')
}

const rates = new Map([
  [plain, [] as number[]],
  [kept, [] as number[]],
])
for (let round = 0; round < ROUNDS; round++) {
  for (const [id, all] of rates) {
    for (const one of rates.keys()) await pause(one)
    const { landed } = await status(id)
    await client.query(`UPDATE mixed SET amount = amount + 1, label = 'round ${round} of row ' || id`)
    await bed.untilInJournal(await bed.head())
    // The other one works it off by itself before.
    const other = [...rates.keys()].find(one => one !== id)!
    const before = (await status(other)).landed
    await bed.act(other, 'continue')
    await bed.untilLanded(other, before + CHANGES)
    await pause(other)
    await bed.act(id, 'continue')
    const seconds = await bed.untilLanded(id, landed + CHANGES)
    all.push(CHANGES / seconds)
    say(`${id === kept ? 'kept' : 'plain'}: ${Math.round(all.at(-1)!)} changes a second`)
  }
}
await bed.close()
const [without, withHistory] = [percentile(rates.get(plain)!, 0.5), percentile(rates.get(kept)!, 0.5)]
say(
  `history: ratio ${(withHistory / without).toFixed(2)} (ours ${Math.round(withHistory)} changes a second with history, ${Math.round(without)} without, limit ${WANTED})`,
)
