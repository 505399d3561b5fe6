/** Two apps kept in step, through the API as people use it; what came of it is read from the apps' own records. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type {
  KeptLine,
  PairSeen,
  TwoWayForeseen,
  TwoWayLook,
  TwoWayTrail,
  UndoForeseen,
} from '@tide/core/api/two-way'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { RunRecord } from '@tide/core/definition/run'
import type { TwoWayDefinition, TwoWayLane } from '@tide/core/definition/two-way'
import type { RestorePoint } from '@tide/core/two-way/restore'
import { createHmac } from 'node:crypto'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { eventually } from '../../../e2e/server.ts'
import { call } from '../../stand-ins/src/api-call.ts'
import { StandInApp } from '../../stand-ins/src/apps/app.ts'
import { benchbookApp } from '../../stand-ins/src/apps/benchbook.ts'
import type { StandInAppDefinition, StandInObject } from '../../stand-ins/src/apps/definition.ts'
import { NO_APP_FAULTS } from '../../stand-ins/src/apps/faults.ts'
import { rakeboardApp } from '../../stand-ins/src/apps/rakeboard.ts'
import { Records } from '../../stand-ins/src/apps/records.ts'
import { passesOf } from './two-way-passes.ts'
import { openRealSystems, type RealSystems } from './real-systems.ts'

let systems: RealSystems
let url: string
let rakeboard: StandInApp
let benchbook: StandInApp
let definition: TwoWayDefinition
let id: string
const listening: Server[] = []

const objectOf = (app: StandInAppDefinition, name: string): StandInObject =>
  app.objects.find(one => one.name === name)!
const [PROGRAMMES, TICKETS] = [objectOf(rakeboardApp, 'programmes'), objectOf(rakeboardApp, 'tickets')]
const JOBS = objectOf(benchbookApp, 'jobs')

const STAGES = [
  { a: 'new', b: 'to do' },
  { a: 'planned', b: 'to do', first: true as const },
  { a: 'in progress', b: 'doing' },
  { a: 'waiting for parts', b: 'waiting' },
  { a: 'done', b: 'finished', first: true as const },
  { a: 'dropped', b: 'finished' },
]

const tickets: TwoWayLane = {
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
    { a: 'labels', b: 'tags', direction: 'both' },
    { a: 'season', b: 'season', direction: 'a to b', against: 'put back' },
    { a: 'programme', b: 'programme', direction: 'both' },
    { a: 'assignee', b: 'who', direction: 'both' },
    { a: 'due_at', b: 'due', direction: 'both' },
    { a: 'notes', b: 'notes', direction: 'both', conflict: 'by line' },
    { a: 'watchers', b: 'watchers', direction: 'a to b' },
    { a: 'links', b: 'files', direction: 'b to a' },
  ],
  conflict: 'the later',
  tie: 'a',
  first: 'the later',
  pair: [{ fields: [{ a: 'summary', b: 'job', alike: ['case', 'spaces'] }] }],
  links: { a: 'benchbook_job', b: 'ticket' },
  gone: { a: 'delete', b: { mark: 'notes', as: 'gone from Benchbook' } },
}

const programmes: TwoWayLane = {
  a: 'programmes',
  b: 'programmes',
  originate: 'a',
  fields: [{ a: 'name', b: 'name', direction: 'both' }],
  conflict: 'the later',
  tie: 'a',
  first: 'a',
  pair: [{ fields: [{ a: 'name', b: 'name', alike: ['case', 'spaces'] }] }],
}

const comments: TwoWayLane = {
  a: 'comments',
  b: 'comments',
  originate: 'both',
  fields: [
    { a: 'ticket', b: 'job', direction: 'both' },
    {
      a: 'body',
      b: 'body',
      direction: 'both',
      rule: { as: 'attributed', a: '{author}, {created_at}: ', b: '{author}: ' },
    },
  ],
  conflict: 'the later',
  tie: 'a',
  first: 'the later',
  gone: { a: 'delete', b: 'delete' },
  editedAndGone: 'the deletion wins',
}

async function started(app: StandInAppDefinition, fill: (records: Records) => void): Promise<StandInApp> {
  const one = new StandInApp(app, new Records(app, join(systems.folder, `${app.name}.jsonl`), fill))
  one.perMinute = 0
  let server = ''
  const listens = one.api(() => server).listen(0, '127.0.0.1')
  listening.push(listens)
  await new Promise(resolve => listens.once('listening', resolve))
  server = `http://127.0.0.1:${(listens.address() as AddressInfo).port}`
  await systems.connect(app.name.toLowerCase(), app.name.toLowerCase(), { server, token: app.token })
  return one
}

beforeAll(async () => {
  systems = await openRealSystems([])
  ;({ url } = systems)
  rakeboard = await started(rakeboardApp, records => {
    records.create(PROGRAMMES, { name: 'Gates' })
    records.create(PROGRAMMES, { name: 'Water' })
    records.create(rakeboardApp.objects[1]!, { name: 'Autumn' })
    const more = { labels: ['growers'], status: 'new', season: 'SEA-1', programme: 'PRG-11' }
    for (let n = 1; n <= 120; n++) records.create(TICKETS, { summary: `Mend ${n}`, ...more })
    records.create(TICKETS, { summary: 'Not theirs', labels: ['glass'] })
    records.create(TICKETS, { summary: 'Twice', labels: ['growers'] })
  })
  benchbook = await started(benchbookApp, records => {
    records.create(benchbookApp.objects[0]!, { name: 'gates' })
    records.create(JOBS, { job: '  mend 7', stage: 'doing', tags: ['beds'] })
    records.create(JOBS, { job: 'Twice', tags: ['beds'] })
    records.create(JOBS, { job: 'twice', tags: ['beds'] })
    records.create(JOBS, { job: 'Water the ferns', stage: 'doing', tags: ['crew'], due: '2026-12-04' })
  })
  definition = {
    version: 2,
    shape: 'two-way',
    name: 'Crew tickets',
    from: systems.ids.rakeboard!,
    to: systems.ids.benchbook!,
    every: 1,
    lanes: [tickets, comments, programmes],
  }
}, 120_000)
afterAll(async () => {
  for (const one of listening) {
    one.closeAllConnections()
    one.close()
  }
  await systems?.close()
})

const { status, decide, pass } = passesOf(
  () => url,
  () => id,
)
const look = (part: Partial<TwoWayLane>) =>
  call<TwoWayLook>(url, 'POST', '/two-way/look', {
    definition: { ...definition, lanes: [{ ...tickets, ...part }, programmes] },
  })
const pairs = (only = '') => call<PairSeen[]>(url, 'GET', `/pipelines/${id}/pairs?only=${only}`)
const pairOf = async (ticket: string) =>
  (await pairs()).find(({ a, lane }) => a?.id === ticket && lane === 'tickets ↔ jobs')
const ticket = (of: string) => rakeboard.records.get('tickets', of)!
const job = (of: string) => benchbook.records.get('jobs', of)!
const jobFor = (of: string) => benchbook.records.of('jobs').find(one => one.ticket === of)!
const writes = () =>
  [rakeboard, benchbook].map(app => app.calls.filter(({ method }) => method !== 'GET').length)

test('the setup says what stands in the way, each with its remedy', async () => {
  const messages = async (part: Partial<TwoWayLane>) =>
    (await look(part)).notes.filter(({ level }) => level === 'refused').map(({ message }) => message)
  expect(await messages({})).toEqual([])
  expect(await messages({ b: 'open_jobs', fields: [] })).toEqual(
    expect.arrayContaining([expect.stringContaining('can be read, and not written')]),
  )
  const join = (part: object) => ({
    fields: [...tickets.fields, { direction: 'both', ...part } as (typeof tickets.fields)[0]],
  })
  expect(await messages(join({ a: 'watchers', b: 'cost' }))).toContain(
    'Rakeboard lets nobody write “Watchers”.',
  )
  expect(await messages(join({ a: 'labels', b: 'area' }))).toEqual(
    expect.arrayContaining([expect.stringContaining('cannot meet')]),
  )
  expect(await messages(join({ a: 'kind', b: 'stage' }))).toContain(
    'jobs.stage is written by two field pairs.',
  )
  expect(await messages(join({ a: 'nothing', b: 'area' }))).toEqual([
    expect.stringContaining('no field “nothing”'),
  ])
  expect(await messages({ fields: tickets.fields.slice(1) })).toEqual([
    expect.stringContaining('needs “Summary”'),
    expect.stringContaining('needs “Job”'),
  ])
  const byLine = tickets.fields.map(one =>
    one.a === 'labels' ? { ...one, conflict: 'by line' as const } : one,
  )
  expect(await messages({ fields: byLine })).toEqual([
    'Only text that is the same on both sides is merged by line.',
  ])
  const strange = [{ a: 'new', b: 'begun' }]
  const mapped = tickets.fields.with(1, {
    a: 'status',
    b: 'stage',
    direction: 'both',
    rule: { as: 'mapped', map: { pairs: strange, others: 'held' } },
  })
  expect(await messages({ fields: mapped })).toContain('“Stage” has no choice “begun”.')
  const { notes } = await look({ fields: [...tickets.fields] })
  expect(notes.map(({ message }) => message)).toContain('“Due” of Benchbook loses the time of day.')
  const alone = await call<TwoWayLook>(url, 'POST', '/two-way/look', {
    definition: { ...definition, lanes: [tickets] },
  })
  expect(alone.notes.map(({ message }) => message)).toContain(
    '“Programme” and “Programme” are left out: what they link to has no lane.',
  )
})

test('fields are proposed with a reason', async () => {
  const { proposed } = await look({ fields: [] })
  const said = proposed[0]!.map(({ join, reason }) => `${join.a} ${join.b} ${join.direction}: ${reason}`)
  expect(said).toEqual(
    expect.arrayContaining([
      'labels tags both: names for the same',
      'programme programme both: the same name',
      'season season a to b: the same name, and one of them is a link',
      'watchers watchers a to b: the same name, and one of them cannot be written',
    ]),
  )
})

test('a rehearsal says what the first pass would do, and writes nothing', async () => {
  const before = writes()
  const foreseen = await call<TwoWayForeseen>(url, 'POST', '/two-way/foresee', { definition })
  expect(writes()).toEqual(before)
  const [first, lane] = foreseen.lanes
  expect(first).toMatchObject({ lane: 'programmes ↔ programmes', paired: 1, created: { a: 0, b: 1 } })
  expect(lane).toMatchObject({
    records: { a: 122, b: 4 },
    inScope: { a: 121, b: 1 },
    takingPart: 122,
    paired: 1,
    created: { a: 1, b: 119 },
    held: 1,
  })
  expect(lane!.reasons).toEqual([
    expect.objectContaining({ reason: 'Several records are the same by “twice”.', records: 1 }),
  ])
  expect(foreseen.callsADay.a).toMatchObject({ limit: 1200 * 1440 })
})

test('a trial is of the chosen records alone', async () => {
  const trial = { a: ['RKB-101', 'RKB-102'], b: [] }
  const { lanes } = await call<TwoWayForeseen>(url, 'POST', '/two-way/foresee', {
    definition: { ...definition, lanes: [{ ...tickets, trial }, programmes] },
  })
  expect(lanes[1]).toMatchObject({ takingPart: 2, created: { a: 0, b: 2 }, withoutTrial: 120 })
})

test('the first pass pairs what is there, makes the rest, and then is quiet', async () => {
  ;({ id } = await call<PipelineStatus>(url, 'POST', '/pipelines', definition))
  await call(url, 'POST', `/pipelines/${id}/start`)
  await pass()
  expect(benchbook.records.of('jobs')).toHaveLength(4 + 119)
  expect(jobFor('RKB-101')).toMatchObject({
    job: 'RKB-101 Mend 1',
    stage: 'to do',
    tags: ['growers'],
    season: 'Autumn',
    programme: 'rowp1',
    ticket: 'RKB-101',
  })
  expect(ticket('RKB-101').benchbook_job).toBe(jobFor('RKB-101').id)
  // What was there is the same record, and both keep what only one had.
  const { summary } = ticket('RKB-107')
  expect(['Mend 7', 'mend 7']).toContain(summary)
  expect(job('rowj1')).toMatchObject({
    job: `RKB-107 ${String(summary)}`,
    ticket: 'RKB-107',
    tags: ['beds', 'growers'],
  })
  expect(ticket('RKB-107').labels).toEqual(['beds', 'growers'])
  // What began in Benchbook has its ticket, and the ticket's key before its name.
  const made = ticket(String(job('rowj4').ticket))
  expect(made).toMatchObject({
    summary: 'Water the ferns',
    status: 'in progress',
    due_at: '2026-12-04T00:00:00Z',
  })
  expect(job('rowj4').job).toBe(`${made.id} Water the ferns`)
  await pass()
  const before = writes()
  await pass()
  await pass(true)
  expect(writes()).toEqual(before)
  expect((await status()).twoWay).toMatchObject({ pairs: 123, held: 1, asleep: 0 })
}, 60_000)

test('edits of different fields merge, and a field goes back along a map of many to one as it was', async () => {
  const other = jobFor('RKB-103').id
  rakeboard.records.change(TICKETS, 'RKB-103', {
    assignee: 'O.Marsh@example.org',
    labels: ['growers', 'gates'],
  })
  const files = ['https://files.example.org/gate.pdf']
  benchbook.records.change(JOBS, other, { job: 'RKB-103  Mend the gate', tags: ['growers', 'frost'], files })
  await pass()
  const labels = ['frost', 'gates', 'growers']
  // Attachments travel as links.
  expect(ticket('RKB-103')).toMatchObject({ summary: 'Mend the gate', labels, links: files })
  expect(job(other)).toMatchObject({ who: 'o.marsh@example.org', tags: ['frost', 'gates', 'growers'] })
  benchbook.records.change(JOBS, other, { stage: 'finished' })
  await pass()
  expect(ticket('RKB-103').status).toBe('done')
  rakeboard.records.change(TICKETS, 'RKB-103', { status: 'dropped' })
  await pass()
  expect([ticket('RKB-103').status, job(other).stage]).toEqual(['dropped', 'finished'])
  // Each adds to the notes; then both to the same line.
  const notes = (...lines: string[]) => ({ notes: lines.join('\n') })
  rakeboard.records.change(TICKETS, 'RKB-103', notes('hinge', 'paint', 'lock'))
  await pass()
  rakeboard.records.change(TICKETS, 'RKB-103', notes('hinge, two of them', 'paint', 'lock'))
  benchbook.records.change(JOBS, other, notes('hinge', 'paint', 'lock', 'a bolt'))
  await pass()
  const merged = notes('hinge, two of them', 'paint', 'lock', 'a bolt')
  expect([ticket('RKB-103'), job(other)]).toMatchObject([merged, merged])
  rakeboard.records.change(TICKETS, 'RKB-103', notes('no hinge', 'paint', 'lock', 'a bolt'))
  benchbook.records.change(JOBS, other, notes('hinge, of brass', 'paint', 'lock', 'a bolt'))
  await pass()
  const open = (await pairs('held')).find(({ a }) => a?.id === 'RKB-103')!
  expect(open.held).toMatchObject([
    { join: 'notes ↔ notes', reason: 'Both sides have changed the same lines of it.' },
  ])
  await decide({
    deed: 'decide',
    pairs: [open.id],
    decision: { join: 'notes ↔ notes', decided: { take: 'b' } },
  })
  expect(ticket('RKB-103').notes).toBe('hinge, of brass\npaint\nlock\na bolt')
  // Of what only Rakeboard gives an edit is put back.
  benchbook.records.change(JOBS, other, { season: 'Spring' })
  await pass()
  expect(job(other).season).toBe('Autumn')
  const trail = await call<TwoWayTrail[]>(
    url,
    'GET',
    `/pipelines/${id}/pairs/${(await pairOf('RKB-103'))!.id}/trail`,
  )
  expect(trail[0]).toMatchObject({
    side: 'b',
    field: 'season',
    was: 'Spring',
    became: 'Autumn',
    why: 'put back',
  })
}, 60_000)

test('the same field on both sides waits for a person where it asks, while the rest goes on', async () => {
  const other = jobFor('RKB-104').id
  rakeboard.records.change(TICKETS, 'RKB-104', { status: 'waiting for parts', notes: 'from the crew' })
  benchbook.records.change(JOBS, other, { stage: 'doing' })
  await pass()
  expect([ticket('RKB-104').status, job(other).stage]).toEqual(['waiting for parts', 'doing'])
  expect(job(other).notes).toBe('from the crew')
  const held = (await pairs('held')).find(({ a }) => a?.id === 'RKB-104')!
  expect(held.held).toEqual([expect.objectContaining({ join: 'status ↔ stage', why: 'conflict' })])
  const join = 'status ↔ stage'
  await decide({ deed: 'decide', pairs: [held.id], decision: { join, decided: { take: 'b' } } })
  expect([ticket('RKB-104').status, job(other).stage]).toEqual(['in progress', 'doing'])
  // Another value, as Rakeboard writes it, is said on both.
  rakeboard.records.change(TICKETS, 'RKB-104', { status: 'planned' })
  benchbook.records.change(JOBS, other, { stage: 'waiting' })
  await pass()
  await decide({ deed: 'decide', pairs: [held.id], decision: { join, decided: { type: 'dropped' } } })
  expect([ticket('RKB-104').status, job(other).stage]).toEqual(['dropped', 'finished'])
  await pass()
  expect((await pairOf('RKB-104'))!.held).toEqual([])
  const before = writes()
  await pass()
  expect(writes()).toEqual(before)
}, 60_000)

test('what may be the same is told apart by a person', async () => {
  const held = (await pairs('held')).find(({ held: [one] }) => one?.why === 'may be the same')!
  expect(held.held[0]!.others).toEqual(['rowj2', 'rowj3'])
  const refused = await decide({ deed: 'decide', pairs: [held.id], decision: { same: 'rowj99999' } })
  expect(refused).toMatchObject({ state: 'refused', outcome: expect.stringContaining('rowj99999') })
  await decide({ deed: 'decide', pairs: [held.id], decision: { same: 'rowj3' } })
  await pass()
  expect(job('rowj3')).toMatchObject({
    ticket: held.a!.id,
    job: `${held.a!.id} ${String(ticket(held.a!.id).summary)}`,
  })
  expect(job('rowj2').ticket).toBeNull()
}, 60_000)

test('what an app refuses waits with its words, goes without it otherwise, and is sent again when somebody says so', async () => {
  const other = jobFor('RKB-105').id
  benchbook.records.locked.add('notes')
  try {
    rakeboard.records.change(TICKETS, 'RKB-105', { notes: 'too much', assignee: 'x@example.org' })
    await pass()
    expect(job(other)).toMatchObject({ notes: null, who: 'x@example.org' })
    const held = (await pairOf('RKB-105'))!
    expect(held.held).toEqual([
      expect.objectContaining({ join: 'notes ↔ notes', why: 'refused', reason: 'Notes cannot be written.' }),
    ])
    const before = writes()
    await pass()
    expect(writes()).toEqual(before)
    benchbook.records.locked.clear()
    await decide({ deed: 'try again', pairs: [held.id] })
    expect(job(other).notes).toBe('too much')
    expect((await pairOf('RKB-105'))!.held).toEqual([])
  } finally {
    benchbook.records.locked.clear()
  }
}, 60_000)

test('a link to what is not there yet is completed as soon as it is', async () => {
  const { id: shows } = benchbook.records.create(benchbookApp.objects[0]!, { name: 'Shows' })
  const other = jobFor('RKB-106').id
  benchbook.records.change(JOBS, other, { programme: shows })
  await pass()
  expect(ticket('RKB-106').programme).toBe('PRG-11')
  expect((await pairs('waiting')).map(({ a }) => a?.id)).toContain('RKB-106')
  const { id: there } = rakeboard.records.create(PROGRAMMES, { name: 'shows' })
  await pass()
  await pass()
  expect(ticket('RKB-106').programme).toBe(there)
  expect(await pairs('waiting')).toEqual([])
}, 60_000)

test('what is said of a record is said on the other side, by whom; edits and deletions follow, and it goes with its record alone', async () => {
  const [crew, growers] = [objectOf(rakeboardApp, 'comments'), objectOf(benchbookApp, 'comments')]
  const saidOf = (of: string) => rakeboard.records.of('comments').filter(one => one.ticket === of)
  const saidOfJob = (of: string) => benchbook.records.of('comments').filter(one => one.job === of)
  const other = jobFor('RKB-112').id
  const ordered = rakeboard.records.create(
    crew,
    { ticket: 'RKB-112', body: 'The hinge is ordered' },
    'o.marsh@example.org',
  )
  const asks = benchbook.records.create(
    growers,
    { job: other, body: 'Who has the key?' },
    'l.moor@example.org',
  )
  const early = rakeboard.records.create(
    crew,
    { ticket: 'RKB-221', body: 'Too early' },
    'p.quill@example.org',
  )
  await pass()
  const copy = saidOfJob(other).find(({ id: one }) => one !== asks.id)!
  expect(copy.body).toMatch(
    /^o\.marsh@example\.org, \d{1,2} \w{3} \d{4}, \d\d:\d\d UTC: The hinge is ordered$/,
  )
  expect(saidOf('RKB-112').map(({ body }) => body)).toEqual([
    'The hinge is ordered',
    'l.moor@example.org: Who has the key?',
  ])
  const pair = (await pairOf('RKB-112'))!
  const linked = await call<PairSeen[]>(url, 'GET', `/pipelines/${id}/pairs/${pair.id}/linked`)
  expect(linked.map(one => [one.lane, one.a?.id, one.b?.id])).toEqual(
    expect.arrayContaining([['comments ↔ comments', ordered.id, copy.id]]),
  )
  expect(linked).toHaveLength(2)
  // Of a ticket that takes no part it is known, and nobody is asked.
  expect((await pairs('waiting')).map(({ a }) => a?.id)).toEqual([early.id])
  expect((await status()).twoWay!.held).toBe((await pairs('held')).length)
  const before = writes()
  await pass(true)
  expect(writes()).toEqual(before)
  rakeboard.records.change(crew, ordered.id, { body: 'The hinge is here' })
  benchbook.records.change(growers, asks.id, { body: 'Who has the keys?' })
  rakeboard.records.change(TICKETS, 'RKB-221', { labels: ['glass', 'growers'] })
  await pass()
  await pass()
  expect(benchbook.records.get('comments', copy.id)!.body).toMatch(/UTC: The hinge is here$/)
  expect(saidOf('RKB-112')[1]!.body).toBe('l.moor@example.org: Who has the keys?')
  expect(saidOfJob(jobFor('RKB-221').id).map(({ body }) => body)).toEqual([
    expect.stringMatching(/^p\.quill.+: Too early$/),
  ])
  rakeboard.records.remove(crew, ordered.id)
  await pass(true)
  expect(saidOfJob(other).map(({ id: one }) => one)).toEqual([asks.id])
  // The job is taken away with what was said of it; the ticket is marked and stays, and so does what is said there.
  benchbook.records.remove(JOBS, other)
  await pass(true)
  expect([ticket('RKB-112').notes, saidOfJob(other)]).toEqual(['gone from Benchbook', []])
  expect(saidOf('RKB-112').map(({ body }) => body)).toEqual(['l.moor@example.org: Who has the keys?'])
}, 60_000)

test('what leaves the scope sleeps, and merges when it comes back', async () => {
  const other = jobFor('RKB-108').id
  rakeboard.records.change(TICKETS, 'RKB-108', { labels: ['gates'] })
  await pass()
  expect((await pairOf('RKB-108'))!.state).toBe('asleep')
  benchbook.records.change(JOBS, other, { notes: 'while asleep' })
  await pass()
  expect(ticket('RKB-108').notes).toBeNull()
  rakeboard.records.change(TICKETS, 'RKB-108', { labels: ['gates', 'growers'] })
  await pass()
  expect(ticket('RKB-108').notes).toBe('while asleep')
}, 60_000)

test('what is deleted on one side is deleted or marked on the other; most of it gone asks first', async () => {
  const [gone, marked] = [jobFor('RKB-109').id, jobFor('RKB-110').id]
  rakeboard.records.remove(TICKETS, 'RKB-109')
  benchbook.records.remove(JOBS, marked)
  // Both apps tell of it in their lists.
  await pass()
  expect(benchbook.records.get('jobs', gone)).toBeUndefined()
  expect(ticket('RKB-110').notes).toBe('gone from Benchbook')
  // Undone, it is made again for itself alone: the ticket went by somebody's own hand.
  const written = await call<TwoWayTrail[]>(url, 'GET', `/pipelines/${id}/written`)
  const { run } = written.find(({ op, record }) => op === 'delete' && record === gone)!
  const foreseen = await call<UndoForeseen>(url, 'GET', `/pipelines/${id}/undone?run=${run}`)
  expect(foreseen.rows.filter(({ record }) => record === gone)).toMatchObject([
    { label: 'RKB-109 Mend 9', undoing: { does: 'create' } },
  ])
  await decide({ deed: 'undo', of: { run } })
  await pass(true)
  const again = benchbook.records.of('jobs').filter(one => one.job === 'RKB-109 Mend 9')
  expect(again).toMatchObject([{ stage: 'to do', season: 'Autumn', ticket: null, tags: ['growers'] }])
  expect(rakeboard.records.of('tickets').filter(({ summary }) => String(summary).endsWith('Mend 9'))).toEqual(
    [],
  )
  await decide({ deed: 'undo', of: { run } })
  expect(benchbook.records.of('jobs').filter(one => one.job === 'RKB-109 Mend 9')).toEqual(again)
  benchbook.records.remove(JOBS, again[0]!.id)
  await pass(true)
  expect(jobFor('RKB-110')).toBeUndefined()
  // One half was edited meanwhile.
  const edited = jobFor('RKB-111').id
  await call(url, 'POST', `/pipelines/${id}/pause`)
  await eventually(async () => (await status()).state === 'Paused')
  rakeboard.records.remove(TICKETS, 'RKB-111')
  benchbook.records.change(JOBS, edited, { notes: 'still wanted' })
  await call(url, 'POST', `/pipelines/${id}/continue`)
  await eventually(async () => (await status()).state === 'Following')
  await pass(true)
  const asked = (await pairs('held')).find(({ b }) => b?.id === edited)!
  expect(asked.held[0]!.why).toBe('edited and gone')
  await decide({ deed: 'decide', pairs: [asked.id], decision: { wins: 'the edit' } })
  expect(ticket(String(job(edited).ticket))).toMatchObject({ notes: 'still wanted', benchbook_job: edited })
  // Somebody empties a good part of the app, over several passes.
  const some = rakeboard.records.of('tickets').slice(0, 40)
  const jobs = benchbook.records.of('jobs').length
  const paired = some.filter(({ benchbook_job: of }) => of)
  const most = Math.max(20, Math.floor(jobs / 5))
  expect(paired.length).toBeGreaterThan(most)
  while (some.length > 0) {
    for (const one of some.splice(0, 8)) rakeboard.records.remove(TICKETS, one.id)
    if ((await status()).state !== 'Stopped') await pass().catch(() => {})
  }
  await eventually(async () => (await status()).state === 'Stopped', 30)
  expect((await status()).reason).toMatchObject({
    kind: 'guard',
    message: expect.stringContaining('Tickets are gone from Rakeboard'),
  })
  expect(benchbook.records.of('jobs').length).toBeGreaterThanOrEqual(jobs - most)
  await call(url, 'POST', `/pipelines/${id}/let-rows-go`)
  await eventually(() => Promise.resolve(benchbook.records.of('jobs').length < jobs - 30), 30)
  // Of one more nobody is asked.
  const [last] = rakeboard.records.of('tickets').filter(({ benchbook_job: of }) => of)
  rakeboard.records.remove(TICKETS, last!.id)
  await pass()
  expect(jobFor(last!.id)).toBeUndefined()
}, 120_000)

test('a run is undone, but for what was edited since', async () => {
  const [one, two] = benchbook.records
    .of('jobs')
    .filter(({ ticket: of }) => of)
    .slice(-2) as [{ id: string }, { id: string }]
  const [first, second] = [String(job(one.id).ticket), String(job(two.id).ticket)]
  rakeboard.records.change(TICKETS, first, { notes: 'by mistake' })
  rakeboard.records.change(TICKETS, second, { notes: 'by mistake' })
  await pass()
  benchbook.records.change(JOBS, two.id, { notes: 'meant so' })
  const runs = await call<RunRecord[]>(url, 'GET', `/runs?pipeline=${id}`)
  const [run] = (await call<TwoWayTrail[]>(url, 'GET', `/pipelines/${id}/written`)).filter(
    ({ became }) => became === 'by mistake',
  )
  expect(runs.map(({ kind }) => kind)).toContain('two-way')
  // What is looked at before is what is then done.
  await pass()
  const foreseen = await call<UndoForeseen>(url, 'GET', `/pipelines/${id}/undone?run=${run!.run}`)
  expect(foreseen).toMatchObject({ change: 1, delete: 0 })
  const left = foreseen.rows.filter(
    ({ undoing }) => undoing.does === 'leave' && undoing.why === 'edited since',
  )
  expect(left.map(({ record }) => record)).toEqual([two.id])
  const said = await decide({ deed: 'undo', of: { run: run!.run } })
  expect(said).toMatchObject({
    state: 'done',
    outcome: expect.stringContaining('1 records are as they were'),
  })
  expect(job(one.id).notes).toBeNull()
  await pass()
  await pass()
  expect(job(one.id).notes).toBeNull()
  expect(job(two.id).notes).toBe('meant so')
}, 60_000)

test('a restore point is made before anything is written; what is written back is looked at before, and does not come again from the other side', async () => {
  const points = () => call<RestorePoint[]>(url, 'GET', `/pipelines/${id}/restore-points`)
  const [first, ...more] = await points()
  expect(more).toEqual([])
  expect(first).toMatchObject({
    why: 'before the first pass',
    records: {
      'tickets ↔ jobs': { a: 122, b: 4 },
      'programmes ↔ programmes': { a: 2, b: 1 },
    },
  })
  const text = await fetch(
    `${url}/api/pipelines/${id}/restore-points/${first!.id}/records?lane=${encodeURIComponent('tickets ↔ jobs')}&side=b`,
  ).then(answer => answer.text())
  const lines = text
    .trim()
    .split('\n')
    .map(line => JSON.parse(line) as KeptLine)
  expect(lines.find(one => one.id === 'rowj1')!.values).toMatchObject({
    job: 'mend 7',
    stage: 'doing',
    tags: '["beds"]',
  })
  await decide({ deed: 'keep' })
  const [asked] = await points()
  expect(asked!.why).toBe('asked for')
  const foreseen = () =>
    call<UndoForeseen>(url, 'GET', `/pipelines/${id}/restore-points/${asked!.id}/foreseen`)
  expect(await foreseen()).toMatchObject({ change: 0 })
  const [{ id: jobId, ticket: of, job: called, tags }] = benchbook.records
    .of('jobs')
    .filter(({ ticket: one }) => one) as [{ id: string; ticket: string; job: string; tags: string[] }]
  const before = ticket(of)
  rakeboard.records.change(TICKETS, of, { summary: 'Spoilt', labels: ['growers', 'spoilt'], notes: 'spoilt' })
  const { id: fresh } = rakeboard.records.create(TICKETS, { summary: 'Made since', labels: ['growers'] })
  await pass()
  await pass()
  expect(job(jobId).job).toBe(`${of} Spoilt`)
  const { change, rows } = await foreseen()
  expect(change).toBe(2)
  expect(rows.map(({ record }) => record).toSorted()).toEqual([of, jobId].toSorted())
  const over = await decide({ deed: 'restore', point: asked!.id })
  expect(over).toMatchObject({ state: 'done', outcome: expect.stringContaining('2 records written back') })
  const asBefore = { summary: before.summary, labels: before.labels, notes: before.notes }
  expect(ticket(of)).toMatchObject(asBefore)
  expect(job(jobId)).toMatchObject({ job: called, tags })
  // Every write makes another version.
  const all = () => [rakeboard.records.of('tickets'), benchbook.records.of('jobs')]
  const quiet = structuredClone(all())
  await pass()
  await pass(true)
  expect(all()).toEqual(quiet)
  expect([ticket(fresh).summary, jobFor(fresh).job]).toEqual(['Made since', `${fresh} Made since`])
  expect(await decide({ deed: 'restore', point: '0000000000' })).toMatchObject({ state: 'refused' })
}, 90_000)

test('taken apart, both stay, and neither is made again', async () => {
  const [some] = benchbook.records.of('jobs').filter(({ ticket: of }) => of)
  const pair = (await pairs()).find(({ b, lane }) => b?.id === some!.id && lane === 'tickets ↔ jobs')!
  await decide({ deed: 'take apart', pairs: [pair.id] })
  rakeboard.records.change(TICKETS, pair.a!.id, { notes: 'of its own' })
  await pass(true)
  expect(job(some!.id).notes).not.toBe('of its own')
  expect(rakeboard.records.of('tickets').filter(({ benchbook_job: of }) => of === some!.id)).toHaveLength(1)
}, 60_000)

test('an app that says when something has changed is believed only when it has signed so, and is then asked at once', async () => {
  await call(url, 'POST', `/pipelines/${id}/stop`)
  await eventually(async () => (await status()).state === 'Stopped', 20)
  await call(url, 'PUT', `/pipelines/${id}`, { ...definition, every: 600 })
  systems.services.reached.at = url
  await call(url, 'POST', `/pipelines/${id}/start`)
  await eventually(
    () => Promise.resolve(rakeboard.webhooks.count === 3 && benchbook.webhooks.count === 3),
    20,
  )
  await eventually(async () => (await status()).twoWay?.last !== null, 20)
  const { a, b } = (await pairs()).find(
    one =>
      one.lane === 'tickets ↔ jobs' && one.state === 'in step' && one.a && one.b && one.held.length === 0,
  )!
  rakeboard.records.change(TICKETS, a!.id, { notes: 'at once' })
  await eventually(() => Promise.resolve(job(b!.id).notes === 'at once'), 10)
  expect(rakeboard.webhooks.told.taken).toBeGreaterThan(0)
  const hook = (await systems.services.store.webhooks.of(id))[0]!
  const forged = (headers: object) =>
    fetch(hook.url, {
      method: 'POST',
      body: '{}',
      headers: { 'Content-Type': 'application/json', ...headers },
    })
  const at = String(Math.floor(Date.now() / 1000))
  const signed = { 'webhook-id': 'm', 'webhook-timestamp': at, 'webhook-signature': 'v1,AAAA' }
  expect((await forged({})).status).toBe(401)
  expect((await forged(signed)).status).toBe(401)
  const sign = (text: string) => `v1,${createHmac('sha256', hook.secret).update(text).digest('base64')}`
  expect((await forged({ ...signed, 'webhook-signature': sign(`m.${at}.{}`) })).status).toBe(204)
  // What was signed long ago may have been overheard.
  const old = String(Number(at) - 3600)
  const late = { ...signed, 'webhook-timestamp': old, 'webhook-signature': sign(`m.${old}.{}`) }
  expect((await forged(late)).status).toBe(401)
  await call(url, 'POST', `/pipelines/${id}/stop`)
  await eventually(async () => (await status()).state === 'Stopped', 20)
  expect([rakeboard.webhooks.count, benchbook.webhooks.count]).toEqual([0, 0])
  systems.services.reached.at = undefined
  await call(url, 'PUT', `/pipelines/${id}`, definition)
  await call(url, 'POST', `/pipelines/${id}/start`)
}, 90_000)

test('apps that fail, lose answers and are busy lose nothing and double nothing', async () => {
  const faults = { ...NO_APP_FAULTS, lost: 0.3, failing: 0.2, busy: 0.2 }
  rakeboard.faults = faults
  benchbook.faults = faults
  for (let n = 0; n < 12; n++) {
    rakeboard.records.create(TICKETS, { summary: `Fix ${n}`, labels: ['growers'] })
    benchbook.records.create(JOBS, { job: `Pot ${n}`, tags: ['crew'] })
    await new Promise(resolve => setTimeout(resolve, 150))
  }
  rakeboard.faults = { ...NO_APP_FAULTS }
  benchbook.faults = { ...NO_APP_FAULTS }
  await eventually(async () => (await status()).retry === null, 60)
  await pass()
  await pass()
  for (let n = 0; n < 12; n++) {
    const [fix, ...more] = rakeboard.records.of('tickets').filter(({ summary }) => summary === `Fix ${n}`)
    expect(more).toEqual([])
    expect(benchbook.records.of('jobs').filter(({ ticket: of }) => of === fix!.id)).toHaveLength(1)
    expect(rakeboard.records.of('tickets').filter(({ summary }) => summary === `Pot ${n}`)).toHaveLength(1)
  }
}, 120_000)

test('a field that somebody takes away stops it, also where somebody has looked at the setup since; nothing is emptied', async () => {
  const pair = (await pairs()).find(
    ({ lane, state, a, b, held }) =>
      lane === 'tickets ↔ jobs' && state === 'in step' && a && b && held.length === 0 && !b.values.due,
  )!
  const [of, other] = [pair.a!.id, pair.b!.id]
  benchbook.records.change(JOBS, other, { due: '2026-12-24' })
  await pass()
  const due = '2026-12-24T00:00:00Z'
  expect(ticket(of).due_at).toBe(due)
  benchbook.records.tables.removeField('jobs', 'due')
  await eventually(async () => {
    const { notes } = await look({})
    return notes.some(({ level, message }) => level === 'refused' && message.includes('no field “due”'))
  }, 20)
  benchbook.records.change(JOBS, other, { notes: 'edited without it' })
  await eventually(async () => (await status()).state === 'Stopped', 30)
  expect((await status()).reason).toMatchObject({
    kind: 'structural',
    remedy: expect.stringContaining('Nothing was emptied'),
  })
  expect(ticket(of).due_at).toBe(due)
}, 60_000)
