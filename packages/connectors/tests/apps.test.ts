/** The connector of described apps, against apps that answer in all the ways in which apps do. */
import { Changes } from '../src/http/changes.ts'
import { afterAll, afterEach, beforeAll, describe, expect, test } from '@jest/globals'
import type { Paging } from '@tide/core/app/described-records'
import type { AppDescription } from '@tide/core/app/description'
import type { WriteOperation } from '@tide/core/app/object'
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { mkdtemp, rm } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { StandInApp } from '../../stand-ins/src/apps/app.ts'
import { benchbookApp, fillBenchbook } from '../../stand-ins/src/apps/benchbook.ts'
import { clubgateApp, fillClubgate } from '../../stand-ins/src/apps/clubgate.ts'
import type { StandInAppDefinition } from '../../stand-ins/src/apps/definition.ts'
import { NO_APP_FAULTS } from '../../stand-ins/src/apps/faults.ts'
import { fillPollenpost, pollenpostApp } from '../../stand-ins/src/apps/pollenpost.ts'
import { Records } from '../../stand-ins/src/apps/records.ts'
import type { AppRecord } from '../src/contract/app.ts'
import { DescribedApp } from '../src/http/app.ts'
import { Budget } from '../src/http/budget.ts'
import { benchbook } from '../src/http/described/benchbook.ts'
import { clubgate } from '../src/http/described/clubgate.ts'
import { pollenpost } from '../src/http/described/pollenpost.ts'
import { SignIn } from '../src/http/sign-in.ts'
import { readDescription, settings } from '../src/http/settings.ts'

const signal = new AbortController().signal
let folder = ''
const servers: Server[] = []

async function listen(server: Server): Promise<string> {
  servers.push(server)
  if (!server.listening) await new Promise(resolve => server.once('listening', resolve))
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`
}

beforeAll(async () => void (folder = await mkdtemp(join(tmpdir(), 'constant-tide-apps-'))))
afterAll(async () => {
  for (const server of servers) {
    server.closeAllConnections()
    server.close()
  }
  await rm(folder, { recursive: true, force: true })
})

interface Tried {
  described: AppDescription
  standIn: StandInAppDefinition
  fill: (records: Records) => void
  object: string
  values: Record<string, string>
}

const APPS: Tried[] = [
  {
    described: clubgate,
    standIn: clubgateApp,
    fill: fillClubgate,
    object: 'organisations',
    values: {
      name: 'New one',
      email: 'New@Example.org',
      orders_this_year: '12',
      spent_this_year: '3.10',
      news_wanted: 'true',
      joined_on: '2026-01-02',
    },
  },
  {
    described: pollenpost,
    standIn: pollenpostApp,
    fill: fillPollenpost,
    object: 'members',
    values: { audience: 'aud_1001', email: 'new@example.org', name: 'New' },
  },
  {
    described: benchbook,
    standIn: benchbookApp,
    fill: records => {
      fillBenchbook(records)
      const fields = [
        { title: 'Name', type: 'text' },
        { title: 'Email', type: 'e-mail' },
        { title: 'Spent this year', type: 'number' },
        { title: 'News wanted', type: 'yes or no' },
      ]
      const { name } = records.tables.makeTable({ title: 'Made by people', fields })
      for (const one of ['a', 'b', 'c']) records.create(records.tables.get(name), { name: one })
    },
    object: 'made_by_people',
    values: { name: 'New', email: 'new@example.org', spent_this_year: '3.10', news_wanted: 'true' },
  },
]

describe.each(APPS)('$described.app', ({ described, standIn, fill, object, values }) => {
  let app: StandInApp
  let api: DescribedApp
  // Members cannot be read back, and have no versions.
  const isRead = object !== 'members'
  const objectIn = () => app.definition.objects.find(({ name }) => name === object)!
  beforeAll(async () => {
    app = new StandInApp(
      standIn,
      new Records(standIn, join(folder, `${standIn.name}.jsonl`), fill),
      () => 0.5,
    )
    app.perMinute = 0
    let address = ''
    address = await listen(app.api(() => address).listen(0, '127.0.0.1'))
    api = new DescribedApp(described, settings({ server: address, token: standIn.token }))
  })
  afterEach(() => void (app.faults = { ...NO_APP_FAULTS }))

  const write = (operations: WriteOperation[], once = String(Math.random())) =>
    api.write(object, operations, { once, signal })

  test('every type goes there and comes back; a second telling of a call is not carried out again', async () => {
    const before = app.records.of(object).length
    const [made] = await write([{ op: 'create', values }], 'once')
    const again = await write([{ op: 'create', values }], 'once')
    expect(again).toEqual([made])
    expect(app.records.of(object)).toHaveLength(before + 1)
    const { id } = made as { id: string }
    const record = app.records.get(object, id)!
    expect(record.email).toBe('new@example.org')
    if (object === 'organisations') expect(record).toMatchObject({ orders_this_year: 12 })
    if (isRead) {
      expect(record).toMatchObject({ spent_this_year: 3.1, news_wanted: true })
      expect(await api.read(object, id, signal)).toMatchObject({
        spent_this_year: '3.1',
        news_wanted: 'true',
      })
    }
    expect(await write([{ op: 'change', id, values: { name: 'Other' } }])).toMatchObject([
      { answer: 'done', id },
    ])
    expect(await write([{ op: 'remove', id, values: {} }])).toMatchObject([{ answer: 'done' }])
    expect(await write([{ op: 'remove', id, values: {} }])).toMatchObject([{ answer: 'done' }])
    expect(await write([{ op: 'change', id, values: { name: 'Gone' } }])).toEqual([{ answer: 'gone' }])
  })

  test('what the app will not have is told by its field, beside what goes', async () => {
    const answers = await write([
      { op: 'create', values: { ...values, email: 'nonsense' } },
      { op: 'create', values },
    ])
    expect(answers).toMatchObject([{ answer: 'refused', field: 'email' }, { answer: 'done' }])
    await write([{ op: 'remove', id: (answers[1] as { id: string }).id, values: {} }])
  })

  test('a lost answer is not known to be done; a busy app is waited for; a page is no answer; a token that is over says so', async () => {
    app.faults = { ...NO_APP_FAULTS, lost: 1 }
    await expect(write([{ op: 'create', values }], 'lost')).rejects.toMatchObject({ kind: 'transient' })
    app.faults = { ...NO_APP_FAULTS }
    const [told] = await write([{ op: 'create', values }], 'lost')
    expect(told).toMatchObject({ answer: 'done' })
    expect(app.records.of(object).filter(({ email }) => email === 'new@example.org')).toHaveLength(1)
    app.faults = { ...NO_APP_FAULTS, busy: 1 }
    const waiting = write([{ op: 'remove', id: (told as { id: string }).id, values: {} }])
    await new Promise(resolve => setTimeout(resolve, 200))
    app.faults = { ...NO_APP_FAULTS }
    expect(await waiting).toMatchObject([{ answer: 'done' }])
    app.faults = { ...NO_APP_FAULTS, html: true }
    await expect(write([{ op: 'create', values }])).rejects.toThrow(/a page for people/)
    app.faults = { ...NO_APP_FAULTS, expired: true }
    await expect(write([{ op: 'create', values }])).rejects.toMatchObject({ kind: 'structural' })
  })

  if (isRead) {
    test('a change of a record that somebody has changed since is not carried out', async () => {
      const [made] = await write([{ op: 'create', values }])
      const { id, record } = made as { id: string; record: AppRecord }
      expect(record).toMatchObject({ id, version: '1', email: 'new@example.org' })
      app.records.change(objectIn(), id, { name: 'By somebody' })
      const change = (name: string, version: string): WriteOperation => ({
        op: 'change',
        id,
        values: { name },
        version,
      })
      expect(await write([change('By us', '1')])).toEqual([{ answer: 'changed' }])
      expect(app.records.get(object, id)).toMatchObject({ name: 'By somebody' })
      expect(await write([change('By us', '2')])).toMatchObject([
        { answer: 'done', record: { name: 'By us', version: '3' } },
      ])
      await write([{ op: 'remove', id, values: {} }])
    })

    test('changes are told once each, whatever they share a second with', async () => {
      const told = async (cursor: string | null) => {
        const ids: string[] = []
        let next: string | null = null
        for await (const { changed, cursor: now } of api.changes(object, cursor, signal)) {
          ids.push(...changed.map(({ id }) => id))
          if (now !== undefined) next = now
        }
        return { ids, next }
      }
      const first = await told(null)
      expect(first.ids).toHaveLength(app.records.of(object).length)
      const [a, b, c] = app.records.of(object).map(({ id }) => id) as [string, string, string]
      app.records.change(objectIn(), a, { name: 'one' })
      const second = await told(first.next)
      expect(second.ids).toEqual([a])
      // In the same second, the same one again and another.
      app.records.change(objectIn(), a, { name: 'two' })
      app.records.change(objectIn(), b, { name: 'one' })
      const third = await told(second.next)
      expect(third.ids.sort()).toEqual([a, b].sort())
      expect((await told(third.next)).ids).toEqual([])
      // While the pages are read: what changes behind is told the next time.
      const cursor = third.next
      const ids: string[] = []
      let next: string | null = null
      for (const id of [a, b, c]) app.records.change(objectIn(), id, { name: 'before' })
      for await (const { changed, cursor: now } of api.changes(object, cursor, signal)) {
        ids.push(...changed.map(({ id }) => id))
        if (now === undefined) app.records.change(objectIn(), a, { name: 'meanwhile' })
        else next = now
      }
      expect(ids.sort()).toEqual([a, b, c].sort())
      expect((await told(next)).ids).toEqual([a])
    })
  }

  if (isRead)
    test('what was deleted is told once, also over a restart of the app; of what it does not remember all is looked for', async () => {
      const told = async (cursor: string | null) => {
        const says = { ids: [] as string[], gone: [] as string[], anew: false, next: cursor }
        for await (const { changed, gone = [], anew, cursor: now } of api.changes(object, cursor, signal)) {
          says.ids.push(...changed.map(({ id }) => id))
          says.gone.push(...gone)
          says.anew ||= anew === true
          if (now !== undefined) says.next = now
        }
        return says
      }
      const asked = described.objects.contacts?.gone
      if (asked) {
        // Nothing was ever deleted there.
        const places: (string | null)[] = [null]
        const anew: boolean[] = []
        for (let i = 0; i < 3; i++)
          for await (const one of api.changes('contacts', places.at(-1)!, signal))
            if (one.cursor !== undefined) {
              places.push(one.cursor)
              anew.push(one.anew === true)
            }
        expect(anew).toEqual([true, false, false])
      }
      const made = (name: string) =>
        app.records.create(objectIn(), { name, email: `${name.toLowerCase()}@example.org` }).id
      const [before, one, two] = [made('Before'), made('One'), made('Two')]
      app.records.remove(objectIn(), before)
      const first = await told(null)
      expect(first.ids).toEqual(expect.arrayContaining([one, two]))
      expect(first.gone).toEqual([])
      app.records.remove(objectIn(), one)
      app.records.change(objectIn(), two, { name: 'Two of them' })
      const second = await told(first.next)
      // Of what went shortly before the first time, too: no harm is done by it.
      expect(second).toMatchObject({ ids: [two], gone: expect.arrayContaining([one]), anew: false })
      expect(second.gone).not.toContain(two)
      app.records.remove(objectIn(), two)
      const third = await told(second.next)
      expect(third).toMatchObject({ ids: [], gone: [two], anew: false })
      expect(await told(third.next)).toMatchObject({ ids: [], gone: [] })
      const again = new Records(standIn, app.records.file, () => {})
      expect(again.goneOf(object)).toEqual(app.records.goneOf(object))
      if (described.objects[object]?.gone === undefined) return
      for (let n = 0; n < 1_100; n++) app.records.remove(objectIn(), made(`Gone ${n}`.replace(' ', '')))
      const last = made('Last')
      expect(await told(third.next)).toMatchObject({ ids: [last], gone: [], anew: true })
    })

  test('what it says of itself fits its document', async () => {
    const objects = await api.objects()
    expect(objects.map(({ name }) => name)).toEqual(expect.arrayContaining(Object.keys(described.objects)))
    expect(
      objects.find(({ name }) => name === object)!.fields.find(({ name }) => name === 'email'),
    ).toMatchObject({ email: true })
  })
})

test('a token by which others are had is kept anew whenever the app gives another one', async () => {
  const app = new StandInApp(
    clubgateApp,
    new Records(clubgateApp, join(folder, 'signed-in.jsonl'), fillClubgate),
  )
  app.perMinute = 0
  let address = ''
  address = await listen(app.api(() => address).listen(0, '127.0.0.1'))
  const description: AppDescription = {
    ...clubgate,
    signIn: { by: 'authorization code', authorize: '/authorize', token: '/token' },
  }
  const asked = { server: address, user: 'tide' }
  const signIn = new SignIn(description, settings(asked))
  const begun = await signIn.begin('http://127.0.0.1:9/signed-in')
  // As the page's form does it.
  const form = new URL(begun.url).searchParams
  form.set('account', clubgateApp.accounts![0]!)
  form.set('deed', 'allow')
  const back = await fetch(`${address}/authorize`, { method: 'POST', body: form, redirect: 'manual' })
  const { refresh: grant } = await signIn.finish(begun, new URL(back.headers.get('Location')!).searchParams)
  let kept = grant
  const keep = async (secrets: Record<string, unknown>) => void (kept = secrets.grant as string)
  const count = async (by: string) => {
    app.consent.expireTokens()
    return new DescribedApp(description, settings({ ...asked, grant: by }), keep).total('contacts', signal)
  }
  const total = app.records.of('contacts').length
  expect(await count(grant!)).toBe(total)
  const first = kept
  expect(first).not.toBe(grant)
  await expect(signIn.refresh(grant!)).rejects.toThrow('gives us no token any more')
  // By whichever of them a session was opened, it goes on.
  expect(await count(grant!)).toBe(total)
  expect(await count(first!)).toBe(total)
  expect(kept).not.toBe(first)
  expect((await signIn.refresh(kept!)).access).toBeTruthy()
})

/** A list of so many records, in pages as the app likes. */
async function paged(paging: Paging, answer: (request: IncomingMessage, response: ServerResponse) => void) {
  const document = {
    openapi: '3.1.0',
    paths: { '/things': { get: {} } },
    components: {
      schemas: {
        Thing: { type: 'object', properties: { id: { type: 'string' }, big: { type: 'integer' } } },
      },
    },
  }
  const server = createServer((request, response) => {
    response.setHeader('Content-Type', 'application/json')
    if (request.url === '/openapi.json') response.end(JSON.stringify(document))
    else answer(request, response)
  }).listen(0, '127.0.0.1')
  const description: AppDescription = {
    description: 1,
    app: 'Things',
    signIn: { by: 'nothing' },
    objects: {
      things: {
        schema: 'Thing',
        key: 'id',
        list: { path: '/things', items: '/items', paging, size: { parameter: 'size', most: 10 } },
      },
    },
  }
  return new DescribedApp(description, settings({ server: await listen(server) }))
}

const TOTAL = 25
const things = (from: number, size: number) =>
  Array.from({ length: Math.max(0, Math.min(size, TOTAL - from)) }, (_, i) => ({ id: `t${from + i}` }))
const queryOf = (request: IncomingMessage) => new URL(request.url!, 'http://x').searchParams
const all = async (app: DescribedApp) => {
  const ids: (string | null)[] = []
  for await (const page of app.list('things', { signal })) ids.push(...page.map(({ id }) => id!))
  return ids
}
const EVERY = Array.from({ length: TOTAL }, (_, i) => `t${i}`)

test.each<[Paging, (request: IncomingMessage, response: ServerResponse) => void]>([
  [
    { by: 'page', parameter: 'page', first: 0 },
    (request, response) =>
      response.end(JSON.stringify({ items: things(Number(queryOf(request).get('page')) * 10, 10) })),
  ],
  [
    { by: 'offset', parameter: 'from' },
    (request, response) =>
      response.end(JSON.stringify({ items: things(Number(queryOf(request).get('from')), 10) })),
  ],
  [
    { by: 'cursor', parameter: 'after', next: '/meta/next' },
    (request, response) => {
      const from = Number(queryOf(request).get('after') ?? 0)
      response.end(
        JSON.stringify({ items: things(from, 10), meta: { next: from + 10 < TOTAL ? from + 10 : null } }),
      )
    },
  ],
  [
    { by: 'link' },
    (request, response) => {
      const from = Number(queryOf(request).get('from') ?? 0)
      if (from + 10 < TOTAL)
        response.setHeader('Link', `</things?from=${from + 10}>; rel="next", </things>; rel="first"`)
      response.end(JSON.stringify({ items: things(from, 10) }))
    },
  ],
])('all pages are read: %j', async (paging, answer) => {
  expect(await all(await paged(paging, answer))).toEqual(EVERY)
})

test('an app that sends the same page for ever is found out, and one that sends us elsewhere is not followed', async () => {
  const round = await paged({ by: 'cursor', parameter: 'after', next: '/next' }, (_request, response) =>
    response.end(JSON.stringify({ items: things(0, 10), next: 'x' })),
  )
  await expect(all(round)).rejects.toThrow('the same page')
  const elsewhere = await paged({ by: 'link' }, (_request, response) => {
    response.setHeader('Link', '<http://example.org/things>; rel="next"')
    response.end(JSON.stringify({ items: things(0, 10) }))
  })
  await expect(all(elsewhere)).rejects.toThrow('which is not where it answers')
  const sent = await paged({ by: 'link' }, (_request, response) => {
    response.writeHead(302, { Location: 'http://example.org/' }).end()
  })
  await expect(all(sent)).rejects.toThrow('elsewhere')
})

test('numbers keep their digits', async () => {
  const app = await paged({ by: 'offset', parameter: 'from' }, (_request, response) =>
    response.end('{"items":[{"id":"a","big":9007199254740993}]}'),
  )
  for await (const [first] of app.list('things', { signal }))
    expect(first).toEqual({ id: 'a', big: '9007199254740993' })
})

test('a description says at which line it is wrong', () => {
  expect(() => readDescription('description: 1\napp: [\n')).toThrow(/line \d/)
  expect(() =>
    readDescription('description: 1\napp: A\nsignIn: { by: nothing }\nobjects:\n  things:\n    key: id\n'),
  ).toThrow(/line 6/)
})

test('a budget lets no more through than it may, whoever asks', async () => {
  const budget = new Budget({ perMinute: 6000, concurrent: 2 })
  let [running, most] = [0, 0]
  const began = performance.now()
  await Promise.all(
    Array.from({ length: 21 }, async () => {
      const give = await budget.turn(signal)
      running++
      most = Math.max(most, running)
      await new Promise(resolve => setTimeout(resolve, 1))
      running--
      give()
    }),
  )
  expect(most).toBeLessThanOrEqual(2)
  // Twenty gaps of 10 ms.
  expect(performance.now() - began).toBeGreaterThanOrEqual(199)
  const gone = new AbortController()
  const [first, second] = [await budget.turn(signal), await budget.turn(signal)]
  const third = budget.turn(gone.signal)
  gone.abort(new Error('left'))
  await expect(third).rejects.toThrow('left')
  first()
  second()
  ;(await budget.turn(signal))()
})

test('whoever waits with many calls lets others have their turns in between; who leaves leaves the rest as they are', async () => {
  const budget = new Budget({ concurrent: 1 })
  const order: string[] = []
  const leaves = new AbortController()
  const call = async (who: string, n: number, of = signal) => {
    const give = await budget.turn(of, who)
    order.push(`${who}${n}`)
    await new Promise(resolve => setTimeout(resolve, 2))
    give()
  }
  const many = [0, 1, 2, 3, 4].map(n => call('many', n))
  const gone = call('gone', 0, leaves.signal)
  const few = [0, 1].map(n => call('few', n))
  leaves.abort(new Error('left'))
  await expect(gone).rejects.toThrow('left')
  await Promise.all([...many, ...few])
  expect(order).toEqual(['many0', 'many1', 'few0', 'many2', 'few1', 'many3', 'many4'])
  // All turns were given back.
  await call('last', 0)
  expect(order.at(-1)).toBe('last0')
})

test('once nothing earlier can come any more, a burst is not read again and again', () => {
  const settings = { key: 'id', field: 'at', overlapMs: 10_000 }
  const record = (id: string, second: number) => ({
    id,
    at: `2026-01-01T00:00:${String(second).padStart(2, '0')}Z`,
  })
  let cursor: string | null = null
  const pass = (nowMs: number, there: ReturnType<typeof record>[]) => {
    const changes = new Changes(settings, cursor, nowMs)
    const since = changes.since === undefined ? -Infinity : Date.parse(changes.since)
    const asked = there.filter(({ at }) => Date.parse(at) >= since)
    const told = changes.fresh(asked).map(({ id }) => id)
    cursor = changes.cursor
    return { asked: asked.length, told }
  }
  const burst = [record('a', 5), record('b', 6), record('c', 7)]
  expect(pass(0, burst).told).toEqual(['a', 'b', 'c'])
  expect(pass(1000, burst)).toEqual({ asked: 3, told: [] })
  // One that was written earlier than it is seen.
  expect(pass(2000, [...burst, record('late', 4)])).toEqual({ asked: 4, told: ['late'] })
  const all = [...burst, record('late', 4)]
  expect(pass(11_000, all)).toEqual({ asked: 4, told: [] })
  expect(pass(12_000, all)).toEqual({ asked: 1, told: [] })
  expect(pass(13_000, [...all, record('d', 9)])).toEqual({ asked: 2, told: ['d'] })
  expect(pass(14_000, [...all, record('d', 9)])).toEqual({ asked: 5, told: [] })
})
