/** Objects that people make for themselves in an app: found, made, and taken away again. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { AppDescription } from '@tide/core/app/description'
import { createServer, type Server } from 'node:http'
import { mkdtemp, rm } from 'node:fs/promises'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { StandInApp } from '../../stand-ins/src/apps/app.ts'
import { benchbookApp, fillBenchbook } from '../../stand-ins/src/apps/benchbook.ts'
import { Records } from '../../stand-ins/src/apps/records.ts'
import { DescribedApp } from '../src/http/app.ts'
import { benchbook } from '../src/http/described/benchbook.ts'
import { settings } from '../src/http/settings.ts'

const signal = new AbortController().signal
const servers: Server[] = []
let folder: string
let app: StandInApp
let api: DescribedApp

async function opened(server: Server): Promise<string> {
  servers.push(server)
  if (!server.listening) await new Promise(resolve => server.once('listening', resolve))
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`
}

const standIn = () => {
  const one = new StandInApp(
    benchbookApp,
    new Records(benchbookApp, join(folder, 'benchbook.jsonl'), fillBenchbook),
  )
  one.perMinute = 0
  return one
}

beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), 'constant-tide-discovery-'))
  app = standIn()
  let address = ''
  address = await opened(app.api(() => address).listen(0, '127.0.0.1'))
  api = new DescribedApp(benchbook, settings({ server: address, token: benchbookApp.token }))
})
afterAll(async () => {
  for (const server of servers) {
    server.closeAllConnections()
    server.close()
  }
  await rm(folder, { recursive: true, force: true })
})

const objectOf = async (name: string) => (await api.objects()).find(one => one.name === name)!
const listed = async (name: string) => {
  const all = []
  for await (const page of api.list(name, { signal })) all.push(...page)
  return all
}

test('tables, views and fields are found as the app tells them', async () => {
  const objects = await api.objects()
  expect(objects.map(({ title }) => title)).toEqual(['Comments', 'Programmes', 'Jobs', 'Open jobs (a view)'])
  const jobs = await objectOf('jobs')
  expect(jobs).toMatchObject({ key: 'id', label: 'job', version: 'version', changed: 'updated_at' })
  const fields = Object.fromEntries(jobs.fields.map(field => [field.name, field]))
  expect(fields).toMatchObject({
    id: { readOnly: true, type: { kind: 'utf8' } },
    job: { required: true, readOnly: false, maxLength: 200 },
    stage: { choices: ['to do', 'doing', 'waiting', 'finished'] },
    tags: { type: { kind: 'list', of: { kind: 'utf8' } } },
    programme: { refers: 'programmes' },
    who: { email: true },
    due: { type: { kind: 'date' } },
    cost_with_tax: { readOnly: true, type: { kind: 'decimal' } },
    updated_at: { readOnly: true, type: { kind: 'timestamp', zoned: true } },
  })
  const view = await objectOf('open_jobs')
  expect(view.can).toMatchObject({ list: true, create: false, change: false, remove: false })
  const open = await listed('open_jobs')
  expect(open.length).toBeGreaterThan(0)
  expect(open.length).toBeLessThan((await listed('jobs')).length)
  expect(Object.keys(open[0]!)).toEqual(['id', 'job', 'stage', 'due', 'version', 'created_at', 'updated_at'])
})

test('a table is made with fields of the types that hold the values, and is there over a restart of the app', async () => {
  const jobs = await objectOf('jobs')
  const chosen = jobs.fields.filter(({ name }) => ['job', 'stage', 'tags', 'due', 'cost'].includes(name))
  const planned = await api.toMake({
    into: { table: 'Jobs of next year', schema: null },
    fields: chosen,
    link: 'Its job',
  })
  expect(planned.calls).toEqual([expect.stringMatching(/^POST \/tables\n[^]*Jobs of next year/)])
  expect(app.definition.objects).toHaveLength(4)
  const made = await planned.make(signal)
  expect(made).toEqual({
    place: 'jobs_of_next_year',
    joins: [
      { field: 'job', column: 'job' },
      { field: 'stage', column: 'stage' },
      { field: 'tags', column: 'tags' },
      { field: 'due', column: 'due' },
      { field: 'cost', column: 'cost' },
    ],
    link: 'its_job',
  })
  const { fields } = await objectOf(made.place)
  const types = Object.fromEntries(fields.map(({ name, nativeType }) => [name, nativeType]))
  expect(types).toMatchObject({ job: 'text', stage: 'choice', tags: 'tags', due: 'date', cost: 'number' })
  const more = await api.toMake({
    into: { place: made.place },
    fields: jobs.fields.filter(({ name }) => name === 'who'),
    link: null,
  })
  expect(await more.make(signal)).toMatchObject({ joins: [{ field: 'who', column: 'who' }] })
  // A second one of the same title the app will not have, and says so.
  await expect(planned.make(signal)).rejects.toThrow(/already/)
  const values = {
    job: 'Order bulbs',
    stage: 'to do',
    tags: '["frost"]',
    due: '2027-02-01',
    who: 'h.ivers@example.org',
  }
  const [written] = await api.write(made.place, [{ op: 'create', values }], { once: 'made', signal })
  expect(written).toMatchObject({ answer: 'done', record: values })
  const again = standIn()
  const table = again.records.tables.get(made.place)
  expect(again.records.of(made.place).map(one => again.records.shown(table, one))).toMatchObject([
    { job: 'Order bulbs', stage: 'to do', tags: ['frost'], who: 'h.ivers@example.org' },
  ])
})

test('attachments are read as links, and not written', async () => {
  const table = app.records.tables.get('jobs')
  const [one] = app.records.of('jobs')
  app.records.change(table, one!.id, {
    files: [{ url: 'https://files.example.org/b.pdf' }, 'https://files.example.org/a.pdf'],
  })
  const { fields } = await objectOf('jobs')
  expect(fields.find(({ name }) => name === 'files')).toMatchObject({
    type: { kind: 'list', of: { kind: 'utf8' } },
    nativeType: 'attachments',
    readOnly: true,
  })
  expect(await api.read('jobs', one!.id, signal)).toMatchObject({
    files: '["https://files.example.org/a.pdf","https://files.example.org/b.pdf"]',
  })
})

test('a field that somebody takes away is missed, and reads as no emptying', async () => {
  const before = await listed('jobs')
  expect(before.some(({ area }) => area !== null)).toBe(true)
  app.records.tables.removeField('jobs', 'area')
  await expect(listed('jobs')).rejects.toThrow(/Jobs of Benchbook have no “Area” any more/)
  // Whoever sets up anew finds it so.
  expect((await objectOf('jobs')).fields.some(({ name }) => name === 'area')).toBe(false)
  expect(await listed('jobs')).toHaveLength(before.length)
  app.records.tables.makeField('jobs', { title: 'Area', type: 'text' })
  const [one] = app.records.of('jobs')
  expect(await api.read('jobs', one!.id, signal)).not.toHaveProperty('area')
  await expect(listed('no such table')).rejects.toThrow(/has no object “no such table” any more/)
})

test('what an app answers in another form names the place in the description; names are no parts of paths', async () => {
  const paths: string[] = []
  let answer: unknown = {}
  const address = await opened(
    createServer((request, response) => {
      paths.push(request.url!)
      response.setHeader('content-type', 'application/json')
      response.end(JSON.stringify(request.url!.startsWith('/tables/') ? { data: [] } : answer))
    }).listen(0, '127.0.0.1'),
  )
  const described: AppDescription = { ...benchbook, objects: {} }
  const asked = () =>
    new DescribedApp(described, settings({ server: address, token: 'any', openapi: JSON.stringify(openapi) }))
  const ways = { get: {}, post: {}, patch: {}, delete: {} }
  const openapi = {
    openapi: '3.1.0',
    paths: Object.fromEntries(
      [
        '/webhooks',
        '/webhooks/{id}',
        '/tables',
        '/tables/{name}/fields',
        '/tables/{name}/rows',
        '/tables/{name}/rows/{row}',
        '/tables/{name}/rows/batch',
      ].map(path => [path, ways]),
    ),
  }
  const field = (id: string) => ({ id, type: 'text' })
  for (const [told, said] of [
    [{}, /“discovery.list.items”/],
    [{ tables: [{ title: 'No key' }] }, /“discovery.list.id”/],
    [{ tables: [{ id: 'x' }] }, /“discovery.fields.items”/],
    [{ tables: [{ id: 'x', fields: [{ type: 'text' }] }] }, /“discovery.fields.id”/],
    [{ tables: [{ id: 'x', fields: [field('other')] }] }, /“discovery.records.key”/],
  ] as const) {
    answer = told
    await expect(asked().objects()).rejects.toMatchObject({ remedy: expect.stringMatching(said) as unknown })
  }
  const strange = '../webhooks?a=b#c'
  const fields = ['id', 'version', 'created_at', 'updated_at'].map(field)
  answer = { tables: [{ id: strange, fields: [...fields, { id: 'odd', type: 'a type of theirs' }] }] }
  const api = asked()
  const [object] = await api.objects()
  expect(object!.fields.at(-1)).toMatchObject({ name: 'odd', readOnly: true, type: { kind: 'json' } })
  for await (const page of api.list(strange, { signal })) expect(page).toEqual([])
  expect(paths.at(-1)).toBe('/tables/..%2Fwebhooks%3Fa%3Db%23c/rows?limit=100')
})
