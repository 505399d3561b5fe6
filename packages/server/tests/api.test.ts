/** The API as any client may use it: whatever is sent, it says what is wrong and what to do, and goes on. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import type { ConnectionInfo } from '@tide/core/api/connections'
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { Problem } from '@tide/core/api/problem'
import fc from 'fast-check'
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { createServer, request, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { createApp } from '../src/app.ts'
import { openDataFolder } from '../src/data-folder.ts'
import { openServices } from '../src/process.ts'
import type { Services } from '../src/services.ts'

const folder = mkdtempSync(join(tmpdir(), 'constant-tide-api-'))
let services: Services
let server: Server
let port: number
let warehouse: ConnectionInfo
let draft: PipelineStatus
/** What the server has warned of: errors of its own. */
const warned: string[] = []

interface Answer {
  status: number
  type: string
  text: string
}

/** Sends bytes as they are, so that also what no good client sends arrives. */
function send(
  method: string,
  path: string,
  body?: string,
  headers: Record<string, string> = {},
): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const sent = request({ host: '127.0.0.1', port, method, path, headers }, response => {
      let text = ''
      response.setEncoding('utf8').on('data', part => (text += part))
      response.on('end', () =>
        resolve({ status: response.statusCode!, type: response.headers['content-type'] ?? '', text }),
      )
      response.on('error', reject)
    })
    if (body !== undefined) sent.setHeader('content-length', Buffer.byteLength(body))
    sent.on('error', reject)
    sent.end(body)
  })
}

async function json<T>(method: string, path: string, body?: unknown): Promise<T> {
  const { status, text } = await send(
    method,
    `/api${path}`,
    body === undefined ? undefined : JSON.stringify(body),
    {
      'content-type': 'application/json',
    },
  )
  if (status >= 400) throw new Error(text)
  return JSON.parse(text) as T
}

/** Errors that nobody waited for. */
const unwaited: unknown[] = []
const note = (error: unknown) => void unwaited.push(error)

beforeAll(async () => {
  process.on('unhandledRejection', note)
  services = await openServices(await openDataFolder(join(folder, 'data'), 'here'))
  services.warn = error => void warned.push(error.stack ?? error.message)
  server = createServer(createApp(services).callback())
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve))
  port = (server.address() as AddressInfo).port
  warehouse = await json('POST', '/connections', {
    name: 'Warehouse',
    kind: 'duckdb',
    config: { path: join(folder, 'warehouse.duckdb') },
  })
  draft = await json('POST', '/pipelines', {
    version: 1,
    name: 'Sketch',
    from: '',
    to: warehouse.id,
    targetSchema: 's',
    tables: [],
  })
}, 60_000)
afterAll(async () => {
  server?.closeAllConnections()
  server?.close()
  await services?.close()
  rmSync(folder, { recursive: true, force: true })
  process.off('unhandledRejection', note)
  expect(unwaited).toEqual([])
})

const ROUTES: [method: string, path: string][] = [
  ['POST', '/query'],
  ['POST', '/query/rows'],
  ['POST', '/connections'],
  ['POST', '/connections/check'],
  ['PUT', '/connections/ID'],
  ['POST', '/connections/ID/check'],
  ['GET', '/connections/ID'],
  ['DELETE', '/connections/ID'],
  ['GET', '/connections/ID/journal'],
  ['GET', '/connections/ID/journal/changes'],
  ['GET', '/connections/ID/catalogue'],
  ['GET', '/connections/ID/preview'],
  ['POST', '/pipelines'],
  ['GET', '/pipelines/ID'],
  ['PUT', '/pipelines/ID'],
  ['POST', '/plan'],
  ['POST', '/names'],
  ['POST', '/names/proposal'],
  ['POST', '/rehearsal'],
  ['POST', '/rehearsals'],
  ['GET', '/rehearsals/ID'],
  ['DELETE', '/rehearsals/ID'],
  ['POST', '/files/read'],
  ['GET', '/schemas/pipeline-file'],
  ...['start', 'pause', 'continue', 'stop', 'recopy', 'extend'].map((deed): [string, string] => [
    'POST',
    `/pipelines/ID/${deed}`,
  ]),
  ['GET', '/pipelines/ID/figures'],
  ['GET', '/pipelines/ID/errands'],
  ['GET', '/pipelines/ID/runs'],
  ['GET', '/pipelines/ID/lanes/0/row'],
  ['GET', '/log'],
  ['GET', '/nothing'],
]

/** Bodies that are nearly right, and others. */
const condition: fc.Arbitrary<unknown> = fc.letrec(tie => ({
  tree: fc.oneof(
    { maxDepth: 4 },
    fc.record({
      column: fc.string(),
      op: fc.constantFrom('equals', 'is less than', 'x'),
      value: fc.string(),
    }),
    fc.record({ column: fc.string(), isNull: fc.oneof(fc.boolean(), fc.constant('x')) }),
    fc.record({ all: fc.array(tie('tree')) }),
    fc.record({ not: tie('tree') }),
    fc.jsonValue({ maxDepth: 1 }),
  ),
})).tree
/** Definitions whose rules are of the right form, and full of what no person would write. */
const shapedDefinition = fc.record({
  version: fc.constant(2),
  shape: fc.constant('replicate'),
  name: fc.string(),
  from: fc.constantFrom('', 'nobody', 'WAREHOUSE'),
  to: fc.constantFrom('', 'nobody', 'WAREHOUSE'),
  targetSchema: fc.string(),
  tables: fc.constantFrom([], [{ namespace: 's', name: 't' }]),
  patterns: fc.array(fc.record({ take: fc.constantFrom('in', 'out'), like: fc.string() }), { maxLength: 2 }),
  names: fc.array(
    fc.record({
      names: fc.constantFrom('all', 'tables', 'x'),
      does: fc.oneof(
        fc.record({
          find: fc.constantFrom('(', 'a{1000}', '(a+)+$', '\\p{L}'),
          by: fc.constantFrom('$9', '$', ''),
        }),
        fc.record({ prefix: fc.string() }),
        fc.record({ shorten: fc.oneof(fc.integer(), fc.constant('to fit')) }),
      ),
    }),
    { maxLength: 3 },
  ),
  there: fc.oneof(
    fc.record({ rows: fc.constantFrom('empty', 'add', 'x'), structure: fc.constantFrom('make anew', 'x') }),
    fc.constantFrom({}, null),
  ),
  lanes: fc.array(
    fc.record({
      like: fc.string(),
      does: fc.oneof(
        fc.record({ rows: fc.constantFrom('empty', 'x') }),
        fc.record({ deletes: fc.constantFrom('keep', { mark: '' }, { mark: 'gone' }) }),
      ),
    }),
    { maxLength: 2 },
  ),
  speed: fc.record({ readers: fc.integer(), waits: fc.double() }),
  columns: fc.array(
    fc.record({
      like: fc.string(),
      does: fc.oneof(
        fc.record({ mask: fc.constantFrom('hash', 'ends', 'x') }),
        fc.record({ add: fc.string(), constant: fc.string() }),
        fc.record({
          become: fc.oneof(fc.string(), fc.constantFrom('text', 'decimal(9,9)', 'decimal(99,1)')),
        }),
        fc.record({ limit: fc.oneof(fc.integer(), fc.double()), suffix: fc.string() }),
      ),
    }),
    { maxLength: 2 },
  ),
  scopes: fc.array(fc.record({ like: fc.constantFrom('*', ''), where: condition }), { maxLength: 2 }),
})
const body = fc.oneof(
  fc.jsonValue({ maxDepth: 3 }).map(value => JSON.stringify(value)),
  fc
    .record(
      {
        name: fc.oneof(fc.string(), fc.jsonValue()),
        kind: fc.constantFrom('duckdb', 'postgres', 'mariadb', 'none', 7),
        config: fc.oneof(fc.jsonValue({ maxDepth: 1 }), fc.constant({ path: join(folder, 'x.duckdb') })),
        id: fc.constantFrom('nobody', null, 3),
        connection: fc.constantFrom('nobody', '', 3, '../x', 'WAREHOUSE'),
        ticket: fc.constantFrom('t', '../t', 'a'.repeat(50), null),
        sql: fc.oneof(
          fc.string(),
          fc.jsonValue(),
          fc.constantFrom(
            'SELECT 1',
            'DROP TABLE x',
            "SELECT repeat('x', 99999999)",
            'SELECT * FROM range(9999999)',
          ),
        ),
        definition: fc.oneof(fc.jsonValue({ maxDepth: 2 }), shapedDefinition),
        text: fc.oneof(
          fc.string(),
          fc.constantFrom(
            'a: &x [*x]',
            'a: &a [1]\nb: [*a, *a]',
            '!!js/function x',
            '? {a: 1}',
            '{"a":',
            'null',
            '- 1',
          ),
          shapedDefinition.map(value => JSON.stringify(value)),
        ),
        show: fc.constantFrom('all', 'none', 3),
        find: fc.oneof(fc.string(), fc.constant(7)),
        table: fc.oneof(fc.jsonValue({ maxDepth: 1 }), fc.constant({ namespace: 's', name: 't' })),
        tables: fc.array(fc.oneof(fc.jsonValue({ maxDepth: 1 }), fc.constant({ namespace: 's', name: 't' }))),
        lanes: fc.array(fc.oneof(fc.integer(), fc.string())),
      },
      { requiredKeys: [] },
    )
    .map(value => JSON.stringify(value)),
  fc.string({ unit: 'binary' }),
  fc.constantFrom(undefined, '', '{', 'null', '[]', '"text"', '0', '{"name":"\\ud800"}', '{"\\udfff":[]}'),
  fc.nat(3000).map(depth => '['.repeat(depth) + ']'.repeat(depth)),
  fc
    .nat(3000)
    .map(n => JSON.stringify({ tables: Array.from({ length: n }, () => n), lanes: Array(n).fill('x') })),
)
const query = fc.dictionary(
  fc.constantFrom(
    'key',
    'before',
    'pipeline',
    'seconds',
    'from',
    'limit',
    'namespace',
    'name',
    'fresh',
    'leaveCapture',
  ),
  fc.oneof(fc.string(), fc.constantFrom('NaN', '-1', '1e400', '[', '["a"]', '{}', 'true', '0/0')),
  { maxKeys: 4 },
)
const headers = fc.record(
  {
    'content-type': fc.constantFrom(
      'application/json',
      'text/plain',
      'application/json; charset=utf-16',
      'x',
    ),
    origin: fc.constantFrom('null', 'http://127.0.0.1:1', 'not an origin', 'file://'),
    'content-encoding': fc.constantFrom('gzip', 'identity'),
    'sec-fetch-site': fc.constantFrom('cross-site', 'same-origin', 'none', 'x'),
  },
  { requiredKeys: ['content-type'] },
)
const id = fc.oneof(
  fc.constantFrom(
    'WAREHOUSE',
    'DRAFT',
    'nobody',
    '%00',
    '..%2f..',
    "'",
    '__proto__',
    'constructor',
    '..',
    'start',
  ),
  fc.string().map(encodeURIComponent),
)

test('whatever is sent, the answer is no error of ours, and what is refused comes with a remedy', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.constantFrom(...ROUTES),
      id,
      body,
      query,
      headers,
      async ([method, path], of, sent, asked, told) => {
        // The two that exist stay: deleting them would leave less to try.
        const known = method === 'DELETE' ? 'nobody' : of
        const place = path.replace('ID', known.replace('WAREHOUSE', warehouse.id).replace('DRAFT', draft.id))
        const answer = await send(
          method,
          `/api${place}?${new URLSearchParams(asked)}`,
          method === 'GET' ? undefined : sent?.replaceAll('"WAREHOUSE"', JSON.stringify(warehouse.id)),
          told as Record<string, string>,
        )
        expect(warned.splice(0)).toEqual([])
        expect(answer.status === 500 ? `${method} ${place}: ${answer.text}` : '').toBe('')
        if (answer.status < 400) return
        expect(answer.type).toMatch(/^application\/problem\+json/)
        const problem = JSON.parse(answer.text) as Problem
        expect(problem).toMatchObject({ status: answer.status, title: expect.stringMatching(/./) })
        expect(problem.detail).toMatch(/./)
        expect(problem.remedy).toMatch(/./)
      },
    ),
    { numRuns: 600 },
  )
})

test.each([
  ['/%zz', 400],
  ['/api/%zz', 404],
  ['/..%2f..%2fpackage.json', 200],
  ['/%2e%2e/%2e%2e/etc/passwd', 200],
])('an address as odd as %s is answered, and leads nowhere else', async (path, status) => {
  const answer = await send('GET', path)
  expect(warned.splice(0)).toEqual([])
  // Every address that is no file is a page of the interface, which says itself that it has no such page.
  if (status === 200) expect([200, 404]).toContain(answer.status)
  else expect(answer.status).toBe(status)
  expect(answer.text).not.toMatch(/root:|"workspaces"/)
})

test('pages from elsewhere, and such without an address, cannot write', async () => {
  for (const origin of ['null', 'http://elsewhere.example', 'not an origin']) {
    const { status, text } = await send('POST', `/api/pipelines/${draft.id}/stop`, undefined, { origin })
    expect([status, JSON.parse(text).detail]).toEqual([403, `Requests from ${origin} are not taken.`])
  }
  const own = { origin: `http://127.0.0.1:${port}`, 'content-type': 'application/json' }
  expect(
    (await send('POST', '/api/plan', JSON.stringify({ definition: draft.definition }), own)).status,
  ).toBe(200)
})

test('who listens hears of every pipeline at once, and again when something has changed', async () => {
  const heard: PipelineStatus[][] = []
  let text = ''
  const listening = request({ host: '127.0.0.1', port, path: '/api/events' }, response => {
    expect(response.headers['content-type']).toBe('text/event-stream')
    response.setEncoding('utf8').on('data', (part: string) => {
      text += part
      for (let end = text.indexOf('\n\n'); end >= 0; end = text.indexOf('\n\n')) {
        const [event, data] = text.slice(0, end).split('\n') as [string, string]
        expect(event).toBe('event: pipelines')
        heard.push(JSON.parse(data.slice('data: '.length)))
        text = text.slice(end + 2)
      }
    })
  })
  listening.end()
  const until = async (what: () => boolean) => {
    for (let tries = 0; !what(); tries++) {
      if (tries > 500) throw new Error('it was not heard')
      await new Promise(resolve => setTimeout(resolve, 10))
    }
  }
  await until(() => heard.length > 0)
  expect(heard[0]!.map(({ definition }) => definition.name)).toContain('Sketch')
  await json('PUT', `/pipelines/${draft.id}`, { ...draft.definition, name: 'Sketch, renamed' })
  await until(() => heard.at(-1)!.some(({ definition }) => definition.name === 'Sketch, renamed'))
  listening.destroy()
})

test('a file that cannot be a warehouse is refused by its check and by its use, with the same reason', async () => {
  writeFileSync(join(folder, 'no folder'), '')
  const config = { path: join(folder, 'no folder', 'such.duckdb') }
  const [item] = await json<{ result: string; found: string; remedy: string }[]>(
    'POST',
    '/connections/check',
    {
      kind: 'duckdb',
      config,
    },
  )
  expect(item).toMatchObject({ result: 'failed', remedy: expect.stringMatching(/another file/) })
  const nowhere = await json<ConnectionInfo>('POST', '/connections', {
    name: 'Nowhere',
    kind: 'duckdb',
    config,
  })
  const { status, text } = await send('GET', `/api/connections/${nowhere.id}/catalogue`)
  expect([status, JSON.parse(text).detail]).toEqual([409, item!.found])
  await json<void>('DELETE', `/connections/${nowhere.id}`).catch(() => {})
  expect((await json<ConnectionInfo[]>('GET', '/connections')).map(({ name }) => name)).toEqual(['Warehouse'])
})

test('a log is read page by page, back to its beginning', async () => {
  for (let n = 0; n < 230; n++)
    await services.store.history.log({ pipeline: draft.id, level: 'info', message: `line ${n}` })
  const lines: string[] = []
  for (let before = ''; ;) {
    const page = await json<{ id: number; message: string }[]>('GET', `/log?pipeline=${draft.id}${before}`)
    if (page.length === 0) break
    lines.push(...page.map(({ message }) => message))
    before = `&before=${page.at(-1)!.id}`
  }
  expect(lines.filter(line => line.startsWith('line '))).toEqual(
    Array.from({ length: 230 }, (_, n) => `line ${229 - n}`),
  )
})

test('rows of a query come as JSON Lines; what goes wrong before the first is an answer like any other', async () => {
  const ask = (sql: string) =>
    send('POST', '/api/query/rows', JSON.stringify({ connection: warehouse.id, sql }), {
      'content-type': 'application/json',
    })
  const { status, type, text } = await ask('SELECT i, i * 2 AS twice FROM range(2500) r(i) ORDER BY i')
  expect([status, type]).toEqual([200, 'application/jsonl'])
  const lines = text
    .trimEnd()
    .split('\n')
    .map(line => JSON.parse(line))
  expect(lines[0].columns.map(({ name }: { name: string }) => name)).toEqual(['i', 'twice'])
  expect(lines).toHaveLength(2501)
  expect(lines.at(-1)).toEqual(['2499', '4998'])
  expect(await ask('DROP TABLE x')).toMatchObject({
    status: 422,
    type: expect.stringContaining('problem+json'),
  })
  // Where rows are on their way, the last line says what went wrong.
  const failing = await ask(
    `SELECT CASE WHEN i < 5000 THEN i ELSE CAST('x' || i AS INTEGER) END FROM range(9000) r(i)`,
  )
  const last = JSON.parse(failing.text.trimEnd().split('\n').at(-1)!)
  if (failing.status === 200) expect(last.problem.detail).toContain('x5')
  else expect(failing.status).toBe(422)
})

test('what was tested before it was saved is the connection’s last test; other settings have none', async () => {
  const pathOf = (name: string) => ({ path: join(folder, `${name}.duckdb`) })
  await json('POST', '/connections/check', { kind: 'duckdb', config: pathOf('tested') })
  const body = { name: 'Tested first', kind: 'duckdb', config: pathOf('tested') }
  const saved = await json<ConnectionInfo>('POST', '/connections', body)
  expect(saved.lastCheck).toMatchObject({ failed: 0, warnings: 0 })
  const put = (change: object) =>
    json<ConnectionInfo>('PUT', `/connections/${saved.id}`, { ...body, ...change })
  expect((await put({ name: 'Tested, then renamed' })).lastCheck).toEqual(saved.lastCheck)
  expect((await put({ config: pathOf('untested') })).lastCheck).toBeNull()
  expect((await send('DELETE', `/api/connections/${saved.id}`)).status).toBe(204)
})
