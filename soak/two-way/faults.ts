/**
 * Kills what keeps two apps in step anywhere, and lets both fail as apps do, while people edit, make and delete records on both sides; then each record
 * has its other half once, both say the same, and no edit is gone that nobody has replaced.
 */
import { once } from 'node:events'
import { mkdtempSync, rmSync } from 'node:fs'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { StandInApp } from '../../packages/stand-ins/src/apps/app.ts'
import type { StandInObject, StandInRecord } from '../../packages/stand-ins/src/apps/definition.ts'
import { NO_APP_FAULTS } from '../../packages/stand-ins/src/apps/faults.ts'
import { NotTaken } from '../../packages/stand-ins/src/apps/not-taken.ts'
import { Records } from '../../packages/stand-ins/src/apps/records.ts'
import type { Random } from '../random.ts'
import {
  appTrouble,
  course,
  Findings,
  sleep,
  type Faulted,
  type Looked,
  type People as Working,
} from './course.ts'
import { Remarks } from './remarks.ts'
import { Syncers } from './syncers.ts'
import { APPS, STAGES } from './world.ts'

const MOST_STANDING = 60
const WORDS = [
  'wet',
  ' dry ',
  'a "b", c',
  'größer',
  'null',
  '[]',
  '{{x}}',
  '“1”',
  'RKB-101 twice',
  'line\nline',
]
/** Elements that people of one side alone write. */
const ONLY = { a: ['glass', 'gates', 'urgent', 'ä b'], b: ['water', 'frost', 'crew 2', '"q"'] }
/** People of each side write in a line of their own, so that no two ever write differently in one. */
const NOTES = ['a: ', 'between', 'b: ', 'behind'].join('\n')
const WHO = ['x@example.org', 'Y@Example.org', 'z@example.org']

export async function twoWayFaults(faults: number, random: Random): Promise<Faulted> {
  const place = mkdtempSync(join(tmpdir(), 'constant-tide-two-way-'))
  const chance = () => random.below(1000) / 1000
  const a = new StandInApp(APPS.a, new Records(APPS.a, join(place, 'a.jsonl'), fillSeasons), chance)
  const b = new StandInApp(APPS.b, new Records(APPS.b, join(place, 'b.jsonl'), () => {}), chance)
  const [listenA, serverA] = await listened(a)
  const [listenB, serverB] = await listened(b)
  const syncers = new Syncers({
    world: 'apps',
    folder: join(place, 'store'),
    connections: {
      a: { server: serverA, token: APPS.a.token },
      b: { server: serverB, token: APPS.b.token },
    },
  })
  const people = new People(a, b, random)
  const calm = () => {
    for (const app of [a, b]) app.faults = { ...NO_APP_FAULTS }
  }
  try {
    return await course(faults, {
      syncers,
      people,
      calm,
      trouble: async () => {
        for (const app of [a, b]) app.faults = { ...NO_APP_FAULTS, ...appTrouble(random) }
        await sleep(random.below(1500))
        return random.below(3) === 0
      },
    })
  } finally {
    for (const listening of [listenA, listenB]) {
      listening.closeAllConnections()
      listening.close()
    }
    rmSync(place, { recursive: true, force: true })
  }
}

function fillSeasons(records: Records): void {
  for (const name of ['Summer', 'Winter']) records.create(APPS.a.objects[1]!, { name })
}

async function listened(app: StandInApp): Promise<[Server, string]> {
  let server = ''
  const listening = app.api(() => server).listen(0, '127.0.0.1')
  await once(listening, 'listening')
  server = `http://127.0.0.1:${(listening.address() as AddressInfo).port}`
  return [listening, server]
}

const TICKETS = APPS.a.objects[2] as StandInObject
const JOBS = APPS.b.objects[1] as StandInObject

class People implements Working {
  edits = 0
  private readonly a: StandInApp
  private readonly b: StandInApp
  private readonly random: Random
  /** What people wrote last where only they write: by record, field or element. */
  private readonly written = new Map<string, Map<string, unknown>>()
  /** Whom people have deleted. */
  private readonly deleted = { a: new Set<string>(), b: new Set<string>() }
  private readonly remarks: Remarks

  constructor(a: StandInApp, b: StandInApp, random: Random) {
    this.a = a
    this.b = b
    this.random = random
    this.remarks = new Remarks({ a, b }, random, WORDS)
  }

  async work(signal: AbortSignal): Promise<void> {
    while (!signal.aborted) {
      try {
        this.once()
      } catch (thrown) {
        if (!(thrown instanceof NotTaken)) throw thrown
      }
      await sleep(this.random.below(120))
    }
  }

  private once(): void {
    const { random, a, b } = this
    const tickets = a.records.of('tickets')
    const jobs = b.records.of('jobs')
    switch (random.below(14)) {
      case 0:
        if (tickets.length < MOST_STANDING)
          this.make(a, TICKETS, {
            summary: `Mend ${random.hex(4)}`,
            labels: ['growers'],
            status: 'new',
            notes: NOTES,
          })
        return
      case 1:
        if (jobs.length < MOST_STANDING)
          this.make(b, JOBS, {
            job: `Pot ${random.hex(4)}`,
            tags: ['crew', 'growers'],
            stage: 'doing',
            notes: NOTES,
          })
        return
      case 2:
        if (random.below(3) > 0) return
        return this.remove(random.below(2) === 0)
      case 3:
      case 4:
        return this.set(a, TICKETS, tickets, { status: random.pick(STAGES)[0] })
      case 5:
        return this.set(b, JOBS, jobs, { stage: random.pick(STAGES)[1] })
      case 6:
        return this.set(a, TICKETS, tickets, { season: random.pick(['SEA-1', 'SEA-2']) }, 'season')
      case 7:
        return this.set(
          a,
          TICKETS,
          tickets,
          { summary: `Mend ${random.pick(WORDS)} ${random.hex(3)}` },
          'summary',
        )
      case 8:
        this.onBoth(tickets, jobs, (app, object, record) => this.line(app, object, record))
        return
      case 9:
        return this.set(random.below(2) === 0 ? a : b, undefined, undefined, { who: random.pick(WHO) })
      case 10:
        this.onBoth(tickets, jobs, (app, object, record) =>
          app === a
            ? this.element(app, object, record, 'labels', random.pick(ONLY.a))
            : this.element(app, object, record, 'tags', random.pick(ONLY.b)),
        )
        return
      default:
        if (this.remarks.once()) this.edits++
    }
  }

  private make(app: StandInApp, object: StandInObject, given: Record<string, unknown>): void {
    app.records.create(object, given)
    this.edits++
  }

  private remove(onA: boolean): void {
    const { random, a, b } = this
    const app = onA ? a : b
    const some = app.records.of(onA ? 'tickets' : 'jobs')
    if (some.length === 0) return
    const { id } = random.pick(some)
    app.records.remove(onA ? TICKETS : JOBS, id)
    this.deleted[onA ? 'a' : 'b'].add(id)
    this.edits++
  }

  private set(
    app: StandInApp,
    object: StandInObject | undefined,
    some: StandInRecord[] | undefined,
    given: Record<string, unknown>,
    only?: string,
  ): void {
    const isA = app === this.a
    const records = some ?? app.records.of(isA ? 'tickets' : 'jobs')
    if (records.length === 0) return
    const { id } = this.random.pick(records)
    const values = object ? given : { [isA ? 'assignee' : 'who']: given.who }
    app.records.change(object ?? (isA ? TICKETS : JOBS), id, values)
    this.edits++
    if (only !== undefined) this.note(isA, id, only, app.records.get(isA ? 'tickets' : 'jobs', id)![only])
  }

  /** At once, where both halves are there. */
  private onBoth(
    tickets: StandInRecord[],
    jobs: StandInRecord[],
    edit: (app: StandInApp, object: StandInObject, record: StandInRecord) => void,
  ): void {
    const linked = jobs.filter(job => tickets.some(({ id }) => id === job.ticket))
    const job = linked.length > 0 ? this.random.pick(linked) : jobs[0]
    const ticket = job && tickets.find(({ id }) => id === job.ticket)
    if (ticket) edit(this.a, TICKETS, ticket)
    if (job) edit(this.b, JOBS, job)
  }

  private line(app: StandInApp, object: StandInObject, { id, notes }: StandInRecord): void {
    const isA = app === this.a
    const word = `${this.random.pick(WORDS).replace('\n', ' ')} ${this.random.hex(3)}`
    const lines = String(notes).split('\n')
    app.records.change(object, id, {
      notes: lines.with(isA ? 0 : 2, `${isA ? 'a' : 'b'}: ${word}`).join('\n'),
    })
    this.edits++
    this.note(isA, id, 'line', word)
  }

  private element(
    app: StandInApp,
    object: StandInObject,
    { id }: StandInRecord,
    field: string,
    element: string,
  ): void {
    const present = (app.records.get(object.name, id)![field] as string[] | null) ?? []
    const has = present.includes(element)
    app.records.change(object, id, {
      [field]: has ? present.filter(one => one !== element) : [...present, element],
    })
    this.edits++
    this.note(app === this.a, id, `${field}:${element}`, !has)
  }

  private note(isA: boolean, id: string, what: string, value: unknown): void {
    const key = `${isA ? 'a' : 'b'} ${id}`
    if (!this.written.has(key)) this.written.set(key, new Map())
    this.written.get(key)!.set(what, value)
  }

  writes(): string {
    const ours = [this.a, this.b].map(({ calls }) => calls.filter(({ method }) => method !== 'GET'))
    return JSON.stringify(ours.map(calls => [calls.length, calls.at(-1)?.at]))
  }

  /** By the apps' own records. */
  looked(): Looked {
    const findings = new Findings()
    const { found } = findings
    const wrong = findings.add.bind(findings)
    const tickets = this.a.records.of('tickets')
    const jobs = this.b.records.of('jobs')
    const byTicket = new Map<string, StandInRecord[]>()
    for (const job of jobs) {
      const ticket = String(job.ticket)
      if (job.ticket) byTicket.set(ticket, [...(byTicket.get(ticket) ?? []), job])
      else if ((job.tags as string[]).includes('crew'))
        wrong('lost', `${job.id} ${String(job.job)} has no ticket`)
    }
    for (const ticket of tickets) {
      const its = byTicket.get(ticket.id) ?? []
      byTicket.delete(ticket.id)
      if (its.length > 1) wrong('doubled', `${ticket.id} has ${its.map(({ id }) => id).join()}`)
      const inScope = (ticket.labels as string[]).includes('growers')
      if (its.length === 0 && inScope) wrong('lost', `${ticket.id} ${String(ticket.summary)} has no job`)
      const [job] = its
      if (!job) continue
      found.pairs++
      this.compare(ticket, job, what => wrong('different', `${ticket.id} ${job.id}: ${what}`))
      this.remarks.look(ticket.id, job.id, wrong)
    }
    for (const [ticket, its] of byTicket)
      for (const { id } of its)
        wrong(this.deleted.a.has(ticket) ? 'different' : 'doubled', `${id} is of ${ticket}, which is gone`)
    return found
  }

  private compare(ticket: StandInRecord, job: StandInRecord, differs: (what: string) => void): void {
    const same = (what: string, one: unknown, two: unknown) => {
      if (JSON.stringify(one ?? null) !== JSON.stringify(two ?? null))
        differs(`${what} ${JSON.stringify(one)} ${JSON.stringify(two)}`)
    }
    if (ticket.benchbook_job !== job.id) differs(`linked to ${String(ticket.benchbook_job)}`)
    same('summary', `${ticket.id} ${String(ticket.summary)}`.trim(), String(job.job))
    same('status', STAGES.find(([status]) => status === ticket.status)?.[1], job.stage)
    const elements = (set: unknown) => [...((set as string[] | null) ?? [])].sort()
    same('labels', elements(ticket.labels), elements(job.tags))
    same('assignee', ticket.assignee, job.who)
    same('notes', ticket.notes, job.notes)
    same('season', ticket.season && (ticket.season === 'SEA-1' ? 'Summer' : 'Winter'), job.season)
    const wrote = (side: 'a' | 'b', record: StandInRecord, sets: string) => {
      for (const [what, value] of this.written.get(`${side} ${record.id}`) ?? []) {
        if (what === 'line') {
          same(
            `the line of ${side}, as written last`,
            `${side}: ${String(value)}`,
            String(record.notes).split('\n')[side === 'a' ? 0 : 2],
          )
          continue
        }
        const [, element] = /^[a-z]+:(.*)$/s.exec(what) ?? []
        if (element === undefined) same(`${what}, as written last`, value, record[what])
        else same(`${what}, as written last`, value, (record[sets] as string[]).includes(element))
      }
    }
    wrote('a', ticket, 'labels')
    wrote('b', job, 'tags')
  }
}
