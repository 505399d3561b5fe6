import type { ConnectionInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import {
  chmodSync,
  existsSync,
  linkSync,
  mkdirSync,
  mkdtempSync,
  rmSync,
  statSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs'
import { createServer, request, type IncomingHttpHeaders, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { createApp } from '../src/app.ts'
import { openDataFolder, type DataFolder } from '../src/data-folder.ts'
import { makePrivately, openServices } from '../src/process.ts'
import type { Services } from '../src/services.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-hostile-'))
const warned: string[] = []
let data: DataFolder
let services: Services
let server: Server
let port: number
let unwaited = 0
let mask = 0
const count = () => void unwaited++

interface Answer {
  status: number
  headers: IncomingHttpHeaders
  text: string
}

function send(method: string, path: string, body?: string, headers = {}): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const sent = request({ host: '127.0.0.1', port, method, path, headers }, response => {
      let text = ''
      response.setEncoding('utf8').on('data', part => (text += part))
      response.on('end', () => resolve({ status: response.statusCode!, headers: response.headers, text }))
    })
    sent.on('error', reject)
    sent.end(body)
  })
}

/** The answer, or the detail of the problem. */
async function ask<T>(method: string, path: string, body?: unknown): Promise<T & { detail?: string }> {
  const { text } = await send(method, `/api${path}`, body === undefined ? undefined : JSON.stringify(body), {
    'content-type': 'application/json',
  })
  return JSON.parse(text || '{}')
}

const postgresAt = (changed = {}) => ({
  host: '127.0.0.1',
  port: 9,
  database: 'site',
  user: 'osier',
  method: 'log',
  ...changed,
})

beforeAll(async () => {
  process.on('unhandledRejection', count)
  mkdirSync(join(folder, 'data', 'old'), { recursive: true })
  writeFileSync(join(folder, 'data', 'old', 'segment'), 'x')
  chmodSync(join(folder, 'data', 'old', 'segment'), 0o666)
  chmodSync(join(folder, 'data', 'old'), 0o777)
  mask = process.umask()
  makePrivately()
  data = await openDataFolder(join(folder, 'data'), 'here')
  services = await openServices(data)
  services.warn = (error, number) => void warned.push(`${number} ${error.stack}`)
  server = createServer(createApp(services).callback())
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve))
  port = (server.address() as AddressInfo).port
}, 60_000)
afterAll(async () => {
  server?.closeAllConnections()
  server?.close()
  await services?.close()
  await data?.unlock()
  rmSync(folder, { recursive: true, force: true })
  process.off('unhandledRejection', count)
  process.umask(mask)
  expect(unwaited).toBe(0)
})

test('the data folder is for its owner alone, also what was there before, and one server holds it', async () => {
  for (const path of ['', 'old', 'old/segment', 'home.id']) {
    expect([path, statSync(join(folder, 'data', path)).mode & 0o077]).toEqual([path, 0])
  }
  expect(existsSync(join(folder, 'data', 'server.lock'))).toBe(true)
  await expect(openDataFolder(join(folder, 'data'))).rejects.toThrow('Another server works on')
  const deep = join(folder, 'a'.repeat(60), 'b'.repeat(60))
  const other = await openDataFolder(deep)
  await expect(openDataFolder(deep)).rejects.toThrow('Another server works on')
  await other.unlock()
  await (await openDataFolder(deep)).unlock()
})

test('ids that are none go nowhere, and a pipeline names connections that are there', async () => {
  const victim = join(folder, 'data', 'victim')
  mkdirSync(victim)
  const to = await ask<ConnectionInfo>('POST', '/connections', {
    name: 'To',
    kind: 'duckdb',
    config: { path: join(folder, 'to.duckdb') },
  })
  const definition = { version: 2, shape: 'replicate', name: 'x', to: to.id, targetSchema: 's', tables: [] }
  for (const from of ['../victim', 'x/../y', '..', 'A', '\u202e', 'a'.repeat(41)]) {
    expect((await ask('POST', '/pipelines', { ...definition, from })).detail).toMatch(/Source/)
    for (const path of ['journal', 'catalogue', 'journal/changes']) {
      const { status } = await send('GET', `/api/connections/${encodeURIComponent(from)}/${path}`)
      expect([422, 404]).toContain(status)
    }
  }
  expect((await ask('POST', '/pipelines', { ...definition, from: 'nobody' })).detail).toBe(
    'There is no connection nobody.',
  )
  expect(() => services.journals.of('../victim')).toThrow('no connection’s id')
  expect(existsSync(victim)).toBe(true)
  await ask('DELETE', `/connections/${to.id}`)
})

test('a saved password goes only where it went when it was saved', async () => {
  const saved = await ask<ConnectionInfo>('POST', '/connections', {
    name: 'Site',
    kind: 'postgres',
    config: postgresAt({ password: 'hushed' }),
  })
  const check = (config: object) =>
    ask<{ what: string }[]>('POST', '/connections/check', { id: saved.id, kind: 'postgres', config })
  expect((await check(postgresAt()))[0]).toMatchObject({ what: expect.any(String) })
  for (const moved of [
    { host: 'localhost' },
    { port: 8 },
    { database: 'other' },
    { user: 'x' },
    { tls: 'encrypt' },
  ]) {
    expect((await check(postgresAt(moved))).detail).toMatch(
      /is another than was saved, and the saved Password/,
    )
    const put = await ask('PUT', `/connections/${saved.id}`, {
      name: 'Site',
      kind: 'postgres',
      config: postgresAt(moved),
    })
    expect(put.detail).toMatch(/goes nowhere else/)
  }
  expect((await check(postgresAt({ port: 8, password: 'again' }))).detail).toBeUndefined()
  const { text } = await send('GET', `/api/connections/${saved.id}`)
  expect(text).not.toContain('hushed')
})

test('what is followed keeps its database and its method', async () => {
  const [from] = await ask<ConnectionInfo[]>('GET', '/connections')
  const to = await ask<ConnectionInfo>('POST', '/connections', {
    name: 'Target',
    kind: 'duckdb',
    config: { path: join(folder, 'target.duckdb') },
  })
  const definition = {
    version: 2 as const,
    shape: 'replicate' as const,
    name: 'Followed',
    from: from!.id,
    to: to.id,
    targetSchema: 's',
    tables: [],
  }
  const { id } = await ask<PipelineStatus>('POST', '/pipelines', definition)
  const lane = { source: { namespace: 'a', name: 'b' } } as never
  await services.store.pipelines.start(
    id,
    { definition, lanes: [lane], steps: [] },
    new Date().toISOString(),
    { home: 'elsewhere', affinity: 'its journal' },
  )
  const put = (changed: object) =>
    ask('PUT', `/connections/${from!.id}`, {
      name: 'Site',
      kind: 'postgres',
      config: postgresAt({ password: 'hushed', ...changed }),
    })
  expect((await put({ method: 'triggers' })).detail).toMatch(
    /followed by “Followed”: “Changes are captured from”/,
  )
  expect((await put({ database: 'other' })).detail).toMatch(/“Database” cannot change/)
  expect((await put({ host: 'localhost' })).detail).toBeUndefined()
})

test('connections that are saved while they are read harm nobody', async () => {
  const config = { path: join(folder, 'busy.duckdb') }
  const body = { name: 'Busy', kind: 'duckdb', config }
  const { id } = await ask<ConnectionInfo>('POST', '/connections', body)
  const all = Array.from({ length: 40 }, (_, i) =>
    i % 2 === 0
      ? send('PUT', `/api/connections/${id}`, JSON.stringify(body), { 'content-type': 'application/json' })
      : send('GET', `/api/connections/${id}/catalogue?fresh=true`),
  )
  expect(new Set((await Promise.all(all)).map(({ status }) => status))).toEqual(new Set([200]))
})

test('one file is one system, whatever links lead to it, and a check makes nothing', async () => {
  const real = join(folder, 'real')
  mkdirSync(real)
  symlinkSync(real, join(folder, 'linked'))
  symlinkSync(join(real, 'later.duckdb'), join(folder, 'dangling.duckdb'))
  const { identity } = services.connector('duckdb')
  const paths = [
    join(real, 'later.duckdb'),
    join(folder, 'linked', 'later.duckdb'),
    join(folder, 'dangling.duckdb'),
  ]
  const same = () => new Set(paths.map(path => identity({ path }))).size
  expect(same()).toBe(1)
  const missing = join(folder, 'not', 'there', 'w.duckdb')
  const [item] = await ask<{ result: string; found: string }[]>('POST', '/connections/check', {
    kind: 'duckdb',
    config: { path: missing },
  })
  expect(item).toMatchObject({ result: 'ok', found: expect.stringContaining('is not there yet') })
  expect(existsSync(join(folder, 'not'))).toBe(false)
  const [one, other] = await Promise.all(
    paths.slice(0, 2).map(path => services.connector('duckdb').open({ path })),
  )
  expect(same()).toBe(1)
  linkSync(join(real, 'later.duckdb'), join(folder, 'hard.duckdb'))
  expect(identity({ path: join(folder, 'hard.duckdb') })).toBe(identity({ path: paths[0] }))
  await one!.close()
  await other!.close()
})

test('every answer says what a browser may do with it', async () => {
  for (const path of ['/', '/api/health', '/api/nothing', '/assets/none.js']) {
    const { headers } = await send('GET', path)
    expect(headers).toMatchObject({
      'x-content-type-options': 'nosniff',
      'referrer-policy': 'no-referrer',
      'content-security-policy': expect.stringMatching(/script-src 'self';.*frame-ancestors 'none'/),
    })
    if (path.startsWith('/api')) expect(headers['cache-control']).toBe('no-store')
  }
})

test('pages of other origins reach nothing', async () => {
  const json = { 'content-type': 'application/json' }
  const body = JSON.stringify({ connection: 'x', sql: 'SELECT 1' })
  for (const [method, path, headers] of [
    ['POST', '/api/query', { ...json, 'sec-fetch-site': 'cross-site' }],
    ['POST', '/api/query', { ...json, 'sec-fetch-site': 'same-site' }],
    ['GET', '/api/connections', { 'sec-fetch-site': 'cross-site' }],
    ['POST', '/api/query', { ...json, origin: 'null' }],
    ['POST', '/api/query', { ...json, origin: `https://127.0.0.1.example` }],
    ['GET', '/api/health', { host: 'rebound.example' }],
    ['GET', '/', { host: 'rebound.example' }],
  ] as const) {
    const { status } = await send(method, path, method === 'POST' ? body : undefined, headers)
    expect([method, path, headers, status]).toEqual([method, path, headers, 403])
  }
  for (const type of ['text/plain', 'application/x-www-form-urlencoded', 'multipart/form-data; boundary=x'])
    for (const chunked of [{}, { 'transfer-encoding': 'chunked' }]) {
      const { text } = await send('POST', '/api/query', body, { 'content-type': type, ...chunked })
      expect(JSON.parse(text).detail).toBe('Bodies must be JSON.')
    }
})

test('strange bodies are answered as problems, shortly, and block nobody', async () => {
  const { id } = await ask<PipelineStatus>('POST', '/pipelines', {
    version: 2,
    shape: 'replicate',
    name: 'Plain',
    from: '',
    to: '',
    targetSchema: '',
    tables: [],
  })
  const wrong = JSON.stringify({
    version: 2,
    shape: 'replicate',
    name: 'x',
    from: '',
    to: '',
    targetSchema: 's',
    tables: Array.from({ length: 400_000 }, () => 0),
  })
  const bodies: [string, RegExp][] = [
    ['['.repeat(5_000) + ']'.repeat(5_000), /levels|understood|JSON/],
    ['{"a":'.repeat(5_000) + '1' + '}'.repeat(5_000), /levels/],
    ['{"name":"\\ud800"}', /lone surrogate/],
    ['{"\\udc00":1}', /lone surrogate/],
    ['{"name":"a\\u0000b"}', /NUL/],
    [
      '{"version":1,"name":"\\u202egnp.exe","from":"","to":"","targetSchema":"","tables":[]}',
      /turn the text around/,
    ],
    [wrong, /tables/],
    ['{', /JSON|Unexpected|Expected/i],
  ]
  for (const [body, detail] of bodies) {
    for (const [method, path] of [
      ['POST', '/api/pipelines'],
      ['PUT', `/api/pipelines/${id}`],
    ] as const) {
      const { status, text } = await send(method, path, body, { 'content-type': 'application/json' })
      expect(status).toBeGreaterThanOrEqual(400)
      expect(status).toBeLessThan(500)
      expect(text.length).toBeLessThan(3_000)
      expect(JSON.parse(text).detail).toMatch(detail)
    }
  }
})

test('an error of ours is told by a number; what it says is in the log alone', async () => {
  const list = services.store.pipelines.list
  services.store.pipelines.list = () => Promise.reject(new Error('SELECT secret FROM /var/lib/tide'))
  const { status, text } = await send('GET', '/api/pipelines')
  services.store.pipelines.list = list
  const { detail, remedy } = JSON.parse(text)
  expect(status).toBe(500)
  expect(text).not.toMatch(/secret|tide\//)
  const [, number] = /under (\w+)\./.exec(detail)!
  expect(remedy).toContain(number)
  expect(warned.find(line => line.startsWith(number!))).toContain('SELECT secret')
})

test('what is called like something of ours is nothing special', async () => {
  for (const name of ['start', 'all', '__proto__', 'constructor']) {
    const { status } = await send('POST', `/api/pipelines/${name}/start`)
    expect([name, status]).toEqual([name, 422])
  }
  expect((await send('GET', '/api/health')).status).toBe(200)
})

test('however many listen, the store is asked once', async () => {
  const list = services.store.pipelines.list
  let asked = 0
  services.store.pipelines.list = () => {
    asked++
    return list.call(services.store.pipelines)
  }
  const heard: Promise<unknown>[] = []
  const listening = Array.from({ length: 100 }, () => {
    const one = request({ host: '127.0.0.1', port, path: '/api/events' })
    heard.push(new Promise(resolve => one.on('response', response => response.once('data', resolve))))
    one.on('error', () => {}) // ended below
    return one.end()
  })
  await Promise.all(heard)
  services.store.pipelines.list = list
  for (const one of listening) one.destroy()
  expect(asked).toBeLessThan(20)
})

test('what nobody knows leaves nothing behind', async () => {
  const ids = Array.from({ length: 500 }, (_, i) => `unknown${i}`)
  for (const id of ids) {
    await Promise.all([
      send('POST', `/api/pipelines/${id}/start`),
      send('DELETE', `/api/pipelines/${id}`),
      send('GET', `/api/connections/${id}/catalogue`),
      send('GET', `/api/connections/${id}/journal`),
      send('GET', `/api/query/${id}`),
    ])
  }
  const held = JSON.stringify(
    [services.engine, services.journals, services.sessions, services.questions],
    names,
  )
  expect(held).not.toMatch(/unknown\d/)
})

/** Keys of maps and members of sets, wherever they hang. */
const seen = new WeakSet<object>()
function names(_key: string, value: unknown): unknown {
  if (value instanceof Map) return [...value.keys()]
  if (value instanceof Set) return [...value].filter(one => typeof one === 'string')
  if (value === null || typeof value !== 'object') return typeof value === 'bigint' ? String(value) : value
  if (seen.has(value)) return undefined
  seen.add(value)
  return value
}
