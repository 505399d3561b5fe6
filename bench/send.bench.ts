/** 20,000 records into an app: at its declared limit, and with the limit lifted; limits: what that allows, and the plainest loop of calls. */
import type { SendDefinition } from '@tide/core/definition/send'
import { DescribedApp } from '@tide/connectors/http/app'
import { pollenpost } from '@tide/connectors/http/described/pollenpost'
import { settings } from '@tide/connectors/http/settings'
import { FileSentStates } from '@tide/connectors/sent/sent-states'
import { fork, type ChildProcess } from 'node:child_process'
import { randomUUID } from 'node:crypto'
import { once } from 'node:events'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { differenceNow, sidesOf } from '../packages/engine/src/shapes/send/foresee.ts'
import { sendAll } from '../packages/engine/src/shapes/send/sending.ts'
import { pollenpostApp } from '../packages/stand-ins/src/apps/pollenpost.ts'
import { say } from './bed.ts'

const RECORDS = 20_000
const BATCH = 500
const AT_ONCE = 4
const folder = mkdtempSync(join(tmpdir(), 'constant-tide-send-'))

const definition: SendDefinition = {
  version: 2,
  shape: 'send',
  name: 'bench',
  from: 'a',
  to: 'b',
  what: { table: { namespace: 's', name: 't' } },
  key: ['email'],
  object: 'members',
  meets: [],
  may: 'create and change',
  fields: [
    { field: 'audience', from: { constant: 'aud_1001' } },
    { field: 'email', from: { column: 'email' } },
    { field: 'name', from: { column: 'name' } },
  ],
}

const rowOf = (i: number) => [`member${i}@example.org`, `Member number ${i}`]

/** In a process of its own, as apps are. */
async function app(perMinute: number): Promise<{ server: string; child: ChildProcess }> {
  const child = fork(
    new URL('./send-app.ts', import.meta.url),
    [join(folder, randomUUID()), String(perMinute)],
    {
      execArgv: ['--import', 'tsx', '--no-warnings'],
      stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
    },
  )
  const [server] = (await once(child, 'message')) as [string]
  return { server, child }
}

/** Seconds that sending takes, reading and comparing apart. */
async function ours(perMinute: number): Promise<number> {
  const { server, child } = await app(perMinute)
  const described = perMinute > 0 ? pollenpost : { ...pollenpost, limits: { concurrent: AT_ONCE } }
  const api = new DescribedApp(described, settings({ server, token: pollenpostApp.token }))
  const source = {
    columns: ['email', 'name'].map(name => ({ name, type: { kind: 'utf8' as const }, nullable: false })),
    rows: async function* () {
      for (let i = 0; i < RECORDS; i += 1000) yield Array.from({ length: 1000 }, (_, n) => rowOf(i + n))
    },
  }
  const state = await new FileSentStates(join(folder, 'sent')).open(
    perMinute > 0 ? 'limited' : 'lifted',
    'here',
  )
  const signal = new AbortController().signal
  const sides = await sidesOf(definition, source, api)
  const now = () => new Date().toISOString()
  const { compared, counts } = await differenceNow(sides, { state, now, tell: () => {}, signal })
  if (counts.create !== RECORDS) throw new Error(JSON.stringify(counts))
  const began = performance.now()
  await sendAll(
    {
      app: api,
      object: sides.object,
      meets: [],
      state,
      now,
      newId: () => randomUUID(),
      signal,
      told: () => {},
    },
    compared,
    'run',
    () => false,
  )
  const seconds = (performance.now() - began) / 1000
  if ((await state.totals()).sent !== RECORDS) throw new Error('not all were sent')
  await compared.close()
  await state.close()
  child.kill()
  return seconds
}

/** Batch calls and nothing else. */
async function plainest(): Promise<number> {
  const { server, child } = await app(0)
  const began = performance.now()
  let next = 0
  const work = async () => {
    while (next < RECORDS) {
      const from = next
      next += BATCH
      const operations = Array.from({ length: BATCH }, (_, n) => {
        const [email, name] = rowOf(from + n)
        return { action: 'add', values: { audience: 'aud_1001', email, name } }
      })
      const response = await fetch(`${server}/members/batch`, {
        method: 'POST',
        headers: { Authorization: `Bearer ${pollenpostApp.token}`, 'Content-Type': 'application/json' },
        body: JSON.stringify({ operations }),
      })
      const { results } = (await response.json()) as { results: { id?: string }[] }
      if (results.some(({ id }) => !id)) throw new Error('refused')
    }
  }
  await Promise.all(Array.from({ length: AT_ONCE }, work))
  const seconds = (performance.now() - began) / 1000
  child.kill()
  return seconds
}

const { perMinute } = pollenpostApp
const limited = await ours(perMinute)
const allowed = ((RECORDS / BATCH - 1) / perMinute) * 60
const [lifted, plain] = [await ours(0), await plainest()]
rmSync(folder, { recursive: true, force: true })
say(
  `at ${perMinute} requests a minute: ${limited.toFixed(2)} s, it allows ${allowed.toFixed(2)} s, ratio ${(allowed / limited).toFixed(2)}`,
)
say(
  `lifted: ours ${Math.round(RECORDS / lifted)} records/s, the plainest loop ${Math.round(RECORDS / plain)} records/s`,
)
say(
  `send: ratio ${(plain / lifted).toFixed(2)} (of the plainest loop, to reach: at least 0.5; ${(allowed / limited).toFixed(2)} of what the limit allows, to reach: 0.95)`,
)
process.exit(0)
