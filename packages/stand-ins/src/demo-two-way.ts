/** The pipeline of the demo that keeps the crew's tickets and the growers' jobs in step, with a conflict for a person. */
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

const NAME = 'Crew tickets'

const STAGES = [
  { a: 'new', b: 'to do' },
  { a: 'planned', b: 'to do', first: true },
  { a: 'in progress', b: 'doing' },
  { a: 'waiting for parts', b: 'waiting' },
  { a: 'done', b: 'finished', first: true },
  { a: 'dropped', b: 'finished' },
]

const LANES = [
  {
    a: 'tickets',
    b: 'jobs',
    originate: 'both',
    scope: {
      a: { column: 'labels', op: 'contains', value: 'growers' },
      b: { column: 'tags', op: 'contains', value: 'crew' },
    },
    fields: [
      {
        a: 'summary',
        b: 'job',
        direction: 'both',
        rule: { as: 'affixed', affix: { on: 'b', before: '{id} ', behind: '' } },
      },
      {
        a: 'status',
        b: 'stage',
        direction: 'both',
        conflict: 'ask',
        rule: { as: 'mapped', map: { pairs: STAGES, others: 'held' } },
      },
      { a: 'labels', b: 'tags', direction: 'both', rule: { as: 'set', others: 'made there' } },
      { a: 'season', b: 'season', direction: 'a to b', against: 'put back' },
      { a: 'programme', b: 'programme', direction: 'both' },
      { a: 'assignee', b: 'who', direction: 'both' },
      { a: 'due_at', b: 'due', direction: 'both' },
      { a: 'notes', b: 'notes', direction: 'both' },
      { a: 'watchers', b: 'watchers', direction: 'a to b' },
    ],
    conflict: 'the later',
    tie: 'a',
    first: 'the later',
    pair: [{ fields: [{ a: 'summary', b: 'job', alike: ['case', 'spaces'] }] }],
    links: { a: 'benchbook_job', b: 'ticket' },
  },
  {
    a: 'programmes',
    b: 'programmes',
    originate: 'a',
    fields: [{ a: 'name', b: 'name', direction: 'both' }],
    conflict: 'the later',
    tie: 'a',
    first: 'a',
    pair: [{ fields: [{ a: 'name', b: 'name', alike: ['case', 'spaces'] }] }],
  },
]

/** Does what is not done yet. */
export async function setUpTwoWay(server: string, apps: readonly AppAccess[]): Promise<void> {
  const present = await call<Status[]>(server, 'GET', '/pipelines')
  if (present.some(({ definition }) => definition.name === NAME)) return
  const connections = await call<Named[]>(server, 'GET', '/connections')
  const idOf = (name: string) => connections.find(one => one.name === name)?.id
  const [from, to] = [idOf('Rakeboard'), idOf('Benchbook')]
  const [rakeboard, benchbook] = ['Rakeboard', 'Benchbook'].map(name => apps.find(one => one.name === name))
  if (!from || !to || !rakeboard || !benchbook) return
  const { id } = await call<Status>(server, 'POST', '/pipelines', {
    version: 2,
    shape: 'two-way',
    name: NAME,
    from,
    to,
    lanes: LANES,
    every: 5,
    sweep: 5,
  })
  await call(server, 'POST', `/pipelines/${id}/start`)
  await until(async () => (await statusOf(server, id)).completeUpTo !== null)
  // While nobody looks, two people move the same ticket on.
  const pairs = await call<PairOf[]>(
    server,
    'GET',
    `/pipelines/${id}/pairs?lane=${encodeURIComponent('tickets ↔ jobs')}`,
  )
  const one = pairs.find(({ a, b }) => a?.values.status === 'planned' && b)
  if (!one) return
  await call(server, 'POST', `/pipelines/${id}/pause`)
  await until(async () => (await statusOf(server, id)).state === 'Paused')
  await edit(rakeboard, `/tickets/${one.a!.id}`, { status: 'waiting for parts' })
  await edit(benchbook, `/jobs/${one.b!.id}`, { stage: 'doing' })
  await call(server, 'POST', `/pipelines/${id}/continue`)
}

function statusOf(server: string, id: string): Promise<Status> {
  return call<Status>(server, 'GET', `/pipelines/${id}`)
}

async function until(is: () => Promise<boolean>): Promise<void> {
  const end = Date.now() + WITHIN_MS
  while (!(await is())) {
    if (Date.now() > end) throw new Error(`${NAME} did not come as far as it should in time.`)
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
