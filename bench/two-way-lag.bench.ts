/**
 * Edits of people on both sides, five a second on each, until they stand on the other: with webhooks, and by asking every two seconds. Then what a
 * pipeline of 10,000 pairs that nobody edits costs in calls.
 */
import { composeServices, newId } from '../packages/server/src/services.ts'
import { createApp } from '../packages/server/src/app.ts'
import { openStore } from '@tide/store/store'
import { mkdtempSync, rmSync } from 'node:fs'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { call } from '../packages/stand-ins/src/api-call.ts'
import { StandInApp } from '../packages/stand-ins/src/apps/app.ts'
import type { StandInObject } from '../packages/stand-ins/src/apps/definition.ts'
import { Records } from '../packages/stand-ins/src/apps/records.ts'
import { APPS, twoWayOf } from '../soak/two-way/world.ts'
import { say } from './bed.ts'

const PAIRS = Number(process.env.PAIRS ?? 10_000)
const EDITS_A_SECOND = 5
const SECONDS = 40
const LIMIT_S = 5
/** Of the connector, where a description says nothing else: overlap of what is asked for. */
const OVERLAP_S = 10
const POLL_S = 2
const QUIET_S = 60

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-two-way-lag-'))
const TICKETS = APPS.a.objects[2] as StandInObject
const JOBS = APPS.b.objects[1] as StandInObject

async function listened(koa: { callback(): Parameters<typeof createServer>[1] }): Promise<string> {
  const server = createServer(koa.callback()!)
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve))
  server.unref()
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`
}

const a = new StandInApp(
  APPS.a,
  new Records(APPS.a, join(folder, 'a.jsonl'), records => {
    for (let n = 0; n < PAIRS; n++) records.create(TICKETS, { summary: `Mend ${n}`, labels: ['growers'] })
  }),
)
const b = new StandInApp(APPS.b, new Records(APPS.b, join(folder, 'b.jsonl'), () => {}))
let [serverA, serverB] = ['', '']
serverA = await listened(a.api(() => serverA))
serverB = await listened(b.api(() => serverB))

const store = await openStore({ folder: join(folder, 'store'), passphrase: 'bench' })
const services = await composeServices(store, 'bench', {
  folder: join(folder, 'store'),
  name: 'bench',
  home: 'bench',
  unlock: () => Promise.resolve(),
})
const { engine } = services
const ours = await listened(createApp(services))
const connection = async (kind: string, server: string, token: string) => {
  const id = newId()
  await store.connections.save({ id, name: kind, kind, config: { server } }, { token })
  return id
}
const from = await connection('rakeboard', serverA, APPS.a.token)
const to = await connection('benchbook', serverB, APPS.b.token)
const id = newId()

const status = async () => (await engine.status(id))!
async function passed(): Promise<void> {
  const asked = Date.now()
  while (!(Date.parse((await status()).twoWay?.last?.beganAt ?? '') > asked)) {
    const { state, reason } = await status()
    if (state === 'Stopped') throw new Error(reason?.message)
    await sleep(100)
  }
}

async function start(every: number): Promise<void> {
  const { lanes, ...twoWay } = twoWayOf(from, to)
  // Each lane is asked for by itself.
  const definition = { ...twoWay, lanes: lanes.slice(0, 1), every, sweep: 600 }
  const present = await store.pipelines.get(id)
  if (!present) await store.pipelines.create(id, definition)
  else if (!(await store.pipelines.setDefinition(id, definition))) throw new Error('it runs')
  await engine.begin(id, { definition, lanes: [], steps: [] }, [null])
  await passed()
}

async function stop(): Promise<void> {
  await call(ours, 'POST', `/pipelines/${id}/stop`)
  while ((await status()).state !== 'Stopped') await sleep(50)
}

/** Seconds that each edit took. */
async function lags(): Promise<number[]> {
  const taken: number[] = []
  const open: { is: () => boolean; at: number }[] = []
  const look = setInterval(() => {
    for (const one of [...open])
      if (one.is()) {
        taken.push((performance.now() - one.at) / 1000)
        open.splice(open.indexOf(one), 1)
      }
  }, 5)
  const pairs = b.records.of('jobs').filter(({ ticket }) => ticket)
  for (let n = 0; n < SECONDS * EDITS_A_SECOND; n++) {
    const [one, two] = [pairs[(n * 2) % pairs.length]!, pairs[(n * 2 + 1) % pairs.length]!]
    const note = `edit ${n} ${Math.random()}`
    a.records.change(TICKETS, String(one.ticket), { notes: note })
    open.push({ at: performance.now(), is: () => b.records.get('jobs', one.id)!.notes === note })
    b.records.change(JOBS, two.id, { who: `n${n}@example.org` })
    open.push({
      at: performance.now(),
      is: () => a.records.get('tickets', String(two.ticket))!.assignee === `n${n}@example.org`,
    })
    await sleep(1000 / EDITS_A_SECOND)
  }
  for (let i = 0; i < 300 && open.length > 0; i++) await sleep(100)
  clearInterval(look)
  if (open.length > 0) throw new Error(`${open.length} edits did not arrive`)
  return taken.sort((x, y) => x - y)
}

const at = (sorted: number[], share: number) => sorted[Math.floor((sorted.length - 1) * share)]!

const began = performance.now()
await start(POLL_S)
say(`${PAIRS} pairs made in ${((performance.now() - began) / 1000).toFixed(1)} s`)
// What was just made comes once as changed.
for (let i = 0; i < 3; i++) await passed()
const polled = await lags()
say(
  `asking every ${POLL_S} s: p50 ${at(polled, 0.5).toFixed(2)} s, p99 ${at(polled, 0.99).toFixed(2)} s, within ${2 * POLL_S} s wanted`,
)
const before = [a, b].map(({ calls }) => calls.length === 0)
if (before.includes(true)) throw new Error('nobody called')
const counted = { a: 0, b: 0 }
// What was changed last is asked for again for some seconds, which may take a second page.
await sleep(OVERLAP_S * 1000 + 3 * POLL_S * 1000)
for (const [side, app] of [
  ['a', a],
  ['b', b],
] as const) {
  const { push } = app.calls
  app.calls.push = (...items) => {
    counted[side] += items.length
    return push.apply(app.calls, items)
  }
}
await sleep(QUIET_S * 1000)
if (process.env.SHOW) say(JSON.stringify(a.calls.slice(-6)))
const intervals = QUIET_S / POLL_S
say(
  `quiet: ${(counted.a / intervals).toFixed(2)} and ${(counted.b / intervals).toFixed(2)} calls an interval to the two apps, 1 wanted`,
)
await stop()
services.reached.at = ours
await start(60)
const called = await lags()
await stop()
await services.close()
rmSync(folder, { recursive: true, force: true })
const p99 = at(called, 0.99)
say(`with webhooks: p50 ${at(called, 0.5).toFixed(2)} s, p99 ${p99.toFixed(2)} s`)
say(`two-way-lag: ratio ${(p99 / LIMIT_S).toFixed(2)} (ours ${p99.toFixed(2)} s, limit ${LIMIT_S} s)`)
process.exit(0)
