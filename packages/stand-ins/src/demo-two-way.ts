/** The pipelines of the demo that keep two apps in step: the crew's tickets and the growers' jobs, with a conflict for a person; members of clubs and the office's list. */
import { setTimeout as sleep } from 'node:timers/promises'
import { call } from './api-call.ts'
import type { AppAccess } from './apps/start.ts'

const LOOK_MS = 500
const WITHIN_MS = 120_000

interface Named {
  id: string
  name: string
}

interface Status {
  id: string
  definition: { name: string }
  state: string
  completeUpTo: string | null
}

interface PairOf {
  a: { id: string; values: Record<string, string | null> } | null
  b: { id: string; values: Record<string, string | null> } | null
}

interface Lane {
  fields: { a: string }[]
}

interface Look {
  starters: { lanes: { lane: Lane }[] }[]
}

const TICKETS = 'Crew tickets'

/** What becomes of a ticket is decided by a person where both have moved it on. */
function askedOf(lanes: readonly Lane[]): Lane[] {
  return lanes.map(lane => ({
    ...lane,
    fields: lane.fields.map(join => (join.a === 'status' ? { ...join, conflict: 'ask' } : join)),
  }))
}

/** Does what is not done yet. */
export async function setUpTwoWay(server: string, apps: readonly AppAccess[]): Promise<void> {
  await setUpTickets(server, apps)
  await setUp(server, { name: 'Members of clubs', from: 'Clubgate', to: 'Rowsheet' }, lanes => lanes)
}

async function setUpTickets(server: string, apps: readonly AppAccess[]): Promise<void> {
  const id = await setUp(server, { name: TICKETS, from: 'Rakeboard', to: 'Benchbook' }, askedOf)
  const [rakeboard, benchbook] = ['Rakeboard', 'Benchbook'].map(name => apps.find(one => one.name === name))
  if (id === undefined || !rakeboard || !benchbook) return
  // While nobody looks, two people move the same ticket on.
  const pairs = await call<PairOf[]>(
    server,
    'GET',
    `/pipelines/${id}/pairs?lane=${encodeURIComponent('tickets ↔ jobs')}`,
  )
  const one = pairs.find(({ a, b }) => a?.values.status === 'planned' && b)
  if (!one) return
  await call(server, 'POST', `/pipelines/${id}/pause`)
  await until(TICKETS, async () => (await statusOf(server, id)).state === 'Paused')
  await edit(rakeboard, `/tickets/${one.a!.id}`, { status: 'waiting for parts' })
  await edit(benchbook, `/tables/jobs/rows/${one.b!.id}`, { stage: 'doing' })
  await call(server, 'POST', `/pipelines/${id}/continue`)
}

/** Starts what is ready-made for two apps, and waits for its first pass; undefined: it is there already, or they are not. */
async function setUp(
  server: string,
  { name, from, to }: { name: string; from: string; to: string },
  changed: (lanes: readonly Lane[]) => readonly Lane[],
): Promise<string | undefined> {
  const present = await call<Status[]>(server, 'GET', '/pipelines')
  if (present.some(({ definition }) => definition.name === name)) return undefined
  const connections = await call<Named[]>(server, 'GET', '/connections')
  const idOf = (called: string) => connections.find(one => one.name === called)?.id
  const sides = { from: idOf(from), to: idOf(to) }
  if (!sides.from || !sides.to) return undefined
  const empty = { version: 2, shape: 'two-way', name, ...sides, lanes: [], every: 5, sweep: 5 }
  const { starters } = await call<Look>(server, 'POST', '/two-way/look', { definition: empty })
  const [starter] = starters
  if (!starter) throw new Error(`Nothing is ready-made for ${from} and ${to}.`)
  const { id } = await call<Status>(server, 'POST', '/pipelines', {
    ...empty,
    lanes: changed(starter.lanes.map(({ lane }) => lane)),
  })
  await call(server, 'POST', `/pipelines/${id}/start`)
  await until(name, async () => (await statusOf(server, id)).completeUpTo !== null)
  return id
}

function statusOf(server: string, id: string): Promise<Status> {
  return call<Status>(server, 'GET', `/pipelines/${id}`)
}

async function until(name: string, is: () => Promise<boolean>): Promise<void> {
  const end = Date.now() + WITHIN_MS
  while (!(await is())) {
    if (Date.now() > end) throw new Error(`${name} did not come as far as it should in time.`)
    await sleep(LOOK_MS)
  }
}

async function edit({ config }: AppAccess, path: string, values: object): Promise<void> {
  const answer = await fetch(config.server + path, {
    method: 'PATCH',
    body: JSON.stringify(values),
    headers: { Authorization: `Bearer ${config.token}`, 'Content-Type': 'application/json' },
  })
  if (!answer.ok) throw new Error(`${path} was answered with ${answer.status}: ${await answer.text()}`)
}
